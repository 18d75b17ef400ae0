/** What a model server can do, a line each; nothing of what nobody knows yet. */
export function abilities(config: unknown): string[] {
  const can = (
    config as { can?: { answers?: string; tools?: boolean | null; parallel?: boolean | null; stream?: boolean | null; usage?: boolean | null } }
  ).can
  if (!can) return []
  const answers: Record<string, string> = {
    schema: 'takes a JSON Schema for its answer',
    object: 'gives JSON; the schema is told in words',
    text: 'gives text alone: JSON is asked for in words, and read from what it says',
  }
  const found = [can.answers ? answers[can.answers] : undefined]
  if (can.tools != null) found.push(can.tools ? `calls tools${can.parallel ? ', several at once' : ''}` : 'knows no tools: they are told in words')
  if (can.stream != null) found.push(can.stream ? 'tells answers while they are written' : 'gives answers whole')
  if (can.usage != null) found.push(can.usage ? 'counts tokens' : 'does not count tokens: they are estimated')
  return found.filter((line): line is string => line !== undefined)
}
