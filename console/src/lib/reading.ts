/** Rows of a table that a value is: a list of mappings of the same few plain fields; null for anything else. */
export function tableOf(value: unknown, most = 200): { columns: string[]; rows: unknown[][]; all: number } | null {
  if (!Array.isArray(value) || value.length < 2) return null
  const columns: string[] = []
  for (const one of value.slice(0, most)) {
    if (one === null || typeof one !== 'object' || Array.isArray(one)) return null
    for (const [key, cell] of Object.entries(one)) {
      if (cell !== null && typeof cell === 'object') return null
      if (!columns.includes(key)) columns.push(key)
    }
  }
  if (!columns.length || columns.length > 12) return null
  return { columns, rows: value.slice(0, most).map((one: Record<string, unknown>) => columns.map((key) => one[key])), all: value.length }
}

const MARKS = [/^#{1,6} \S/m, /^\s*[-*+] \S/m, /^\s*\d+[.)] \S/m, /\*\*\S[^*]*\*\*/, /^> /m, /^```/m, /\[[^\]]+\]\([^)\s]+\)/, /^\|.*\|$/m]

/** Whether a text is written with marks that are meant to be read as a layout (CommonMark). */
export function isWritten(text: unknown): text is string {
  return typeof text === 'string' && text.length < 100_000 && MARKS.filter((mark) => mark.test(text)).length >= (text.includes('\n') ? 1 : 2)
}
