import type { Schemas } from '../api/client'
import { AROUND } from '../edit/scope'
import { nameOf, type Path, pathOf, type Source } from '../edit/source'
import { lines } from './lines'

/** A line of the script: a step, one of its ways, or what stands around the steps. */
export interface Row {
  path: string
  number: string
  depth: number
  kind: string
  step: string
  sentence: string
  note: string
  /** How what happens there is named in a trace. */
  trace: string
  /** Whether it is a step, that can be moved, named and taken away. */
  own: boolean
}

/** All lines, in reading order: what it is given and what starts it, the steps with the tools of agents, and what it gives. */
export function rows(checked: Schemas['CheckedOut'], source: Source | null): Row[] {
  const around = (path: string, kind: string, sentence: string): Row => ({
    path,
    number: '',
    depth: 0,
    kind,
    step: '',
    sentence,
    note: '',
    trace: path,
    own: false,
  })
  const data = source?.data ?? {}
  const input = Object.keys((data.input as { properties?: object } | undefined)?.properties ?? {})
  const found = [
    around('title', 'about', String(data.note || 'Title, note, labels and limits')),
    around('input', 'input', input.length ? `It is given ${listed(input)}` : 'It is given what you like'),
  ]
  if (typeof data.agent === 'string' && source) {
    const agent = { ...around('agent', 'agent', 'The agent: its model, what it is told, its limits'), step: 'agent', number: '1', trace: 'agent' }
    return [...found, agent, ...tools(source, agent)]
  }
  const triggers = Array.isArray(data.triggers) ? (data.triggers as Record<string, unknown>[]) : []
  const said = checked.starters.length === triggers.length ? checked.starters : []
  for (const [n, one] of triggers.entries())
    found.push(
      around(
        `triggers.${n}`,
        'trigger',
        said[n] ?? `Started by ${String(Object.keys(one ?? {}).find((key) => key !== 'trigger' && key !== 'input') ?? 'something')}`,
      ),
    )
  if (!triggers.length) found.push(around('triggers', 'trigger', 'A person or a client starts it'))
  const known = new Map(checked.script.map((line) => [line.path, line]))
  for (const row of source ? lines(source) : checked.script.map((line) => ({ ...line, own: line.kind !== 'arm' && line.kind !== 'strand' }))) {
    const line = known.get(row.path)
    const same = line && line.step === row.step && line.kind === row.kind
    found.push(same ? { ...row, sentence: line.sentence } : row)
    if (source && row.kind === 'do') found.push(...tools(source, row))
  }
  found.push(around('result', 'result', 'result' in data ? `It gives ${brief(data.result)}` : 'It gives nothing'))
  return found
}

/** Where the tools of an agent stand, of a step or of a document. */
export function toolsAt(row: Row): Path {
  return row.kind === 'agent' ? ['tools'] : [...pathOf(row.path), 'with', 'tools']
}

function tools(source: Source, row: Row): Row[] {
  const given = source.value(toolsAt(row))
  if (!Array.isArray(given)) return []
  return given.flatMap((tool: unknown, n) => {
    if (!tool || typeof tool !== 'object') return []
    const one = tool as Record<string, unknown>
    const kind = ['do', 'run', 'agent', 'server', 'table', 'ask', 'knowledge'].find((key) => key in one)
    if (!kind) return []
    const name = String(one.name ?? one[kind])
    const path = nameOf([...toolsAt(row), n])
    return [
      {
        path,
        number: `${row.number}·${n + 1}`,
        depth: row.depth + 1,
        kind: 'tool',
        step: '',
        sentence: `With ${name}${one.name ? ` (${String(one[kind])})` : ''}`,
        note: String(one.use_when ?? ''),
        trace: path,
        own: false,
      },
    ]
  })
}

export function listed(names: string[]): string {
  return names.length > 1 ? `${names.slice(0, -1).join(', ')} and ${names.at(-1)}` : (names[0] ?? '')
}

function brief(value: unknown): string {
  const text = typeof value === 'string' ? value : JSON.stringify(value)
  return text.length > 80 ? `${text.slice(0, 79)}…` : text
}

/** The line that a place belongs to: the nearest one that holds it; of an agent document the agent, for its fields. */
export function rowOf(all: Row[], path: string): Row | undefined {
  const holding = all.filter((one) => path === one.path || path.startsWith(`${one.path}.`)).sort((a, b) => b.path.length - a.path.length)[0]
  return holding ?? (AROUND.has(path.split('.')[0]!) ? undefined : all.find((one) => one.kind === 'agent'))
}

/** The lines that findings are about: the nearest one whose place holds theirs. */
export function marks(all: Row[], findings: Schemas['FindingOut'][]): Map<string, string> {
  const found = new Map<string, string>()
  for (const finding of findings) {
    const at = finding.path
    const row = rowOf(all, at)
    if (row && found.get(row.path) !== 'error') found.set(row.path, finding.severity)
  }
  return found
}

/** Where a new line goes that is put behind another one: its list, and its place in it. */
export function behindRow(row: Row | undefined, source: Source): { list: Path; index: number } {
  const path = row ? pathOf(row.path) : []
  if (row?.own) return { list: path.slice(0, -1), index: (path.at(-1) as number) + 1 }
  if (row?.kind === 'arm' && row.path !== 'always') {
    const value = source.value(path) as Record<string, unknown> | undefined
    const list =
      row.path.endsWith('on_error') || row.path.endsWith('tell') || row.path.endsWith('aside')
        ? path
        : [...path, value && 'else' in value ? 'else' : 'steps']
    return { list, index: 0 }
  }
  if (row?.kind === 'strand') return { list: Array.isArray(source.value(path)) ? path : [...path, 'steps'], index: 0 }
  if (row?.path === 'always') return { list: ['always'], index: 0 }
  if (row?.kind === 'tool') return { list: path.slice(0, path.indexOf('with') - 1), index: (path[path.indexOf('with') - 1] as number) + 1 }
  const steps = source.value(['steps'])
  return { list: ['steps'], index: row && row.kind !== 'result' ? 0 : Array.isArray(steps) ? steps.length : 0 }
}
