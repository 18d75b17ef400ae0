import type { Line, Span } from '../api/client'

export interface Bar {
  kind: 'work' | 'failed' | 'lost' | 'gap' | 'wait'
  from: number
  to: number
  title: string
}

export interface Row {
  line: Line
  span: Span | null
  /** Spans of all items this line went through, when it stands in a loop. */
  rounds: number
  taken: boolean
  bars: Bar[]
}

/** One row per sentence: which span it shows for the chosen items of loops, and its bars between `from` and `to` (ms). */
export function rows(lines: Line[], spans: Span[], items: Record<string, number>, from: number, to: number): Row[] {
  const byPath = new Map(spans.map((span) => [span.path, span]))
  const ways = new Map<string, number>()
  const dead: string[] = []
  return lines.map((line) => {
    const path = chosenPath(line.trace, items)
    if (line.kind === 'arm' || line.kind === 'strand') {
      const [owner = '', mark = ''] = path.includes('#') ? path.split('#') : path.endsWith('!') ? [path.slice(0, -1), '!'] : [path, '.']
      const branch = byPath.get(owner)
      const taken =
        mark === '!' || mark === '.' ? spans.some((s) => s.path.startsWith(`${owner}${mark === '!' ? '!.' : '.'}`)) : branch?.way === Number(mark)
      if (!taken) dead.push(line.path)
      else ways.set(owner, Number(mark))
      return { line, span: null, rounds: 0, taken, bars: [] }
    }
    const reachable = !dead.some((arm) => line.path.startsWith(`${arm}.`))
    const span = reachable ? (byPath.get(path) ?? null) : null
    const rounds = span && (line.kind === 'each' || line.kind === 'repeat') ? roundsOf(span, spans) : 0
    return { line, span, rounds, taken: span !== null && span.state !== 'skipped', bars: span ? bars(span, from, to) : [] }
  })
}

/** The path of spans for a line, with the chosen item of each loop in place of `[]`. */
function chosenPath(trace: string, items: Record<string, number>): string {
  let path = trace
  while (path.includes('[]')) {
    const owner = path.slice(0, path.indexOf('[]'))
    path = `${owner}[${items[owner] ?? 0}]${path.slice(owner.length + 2)}`
  }
  return path
}

/** How many items or rounds a loop has: those that are told, or all of a list walked in parts. */
function roundsOf(span: Span, spans: Span[]): number {
  const inside = spans.filter((s) => parentOf(s.path) === span.path && s.path.startsWith(`${span.path}[`))
  const whole = inside.some((s) => s.kind === 'part') && Array.isArray(span.input) ? span.input.length : 0
  return Math.max(whole, inside.filter((s) => s.kind === 'item').length)
}

function parentOf(path: string): string {
  return path.slice(0, path.lastIndexOf('['))
}

function bars(span: Span, from: number, to: number): Bar[] {
  const share = (at: number) => Math.min(1, Math.max(0, (at - from) / Math.max(1, to - from)))
  const found: Bar[] = []
  const add = (kind: Bar['kind'], start: string | null | undefined, end: string | null | undefined, title: string) => {
    if (start) found.push({ kind, from: share(Date.parse(start)), to: share(end ? Date.parse(end) : to), title })
  }
  if (!span.attempts.length) {
    const waits = span.until !== null
    add(span.state === 'failed' ? 'failed' : waits ? 'wait' : 'work', span.started, span.ended, waits ? `waits until ${span.until}` : span.state)
    return found
  }
  span.attempts.forEach((attempt, index) => {
    const kind = attempt.state === 'failed' ? 'failed' : attempt.state === 'lost' ? 'lost' : 'work'
    const words = (attempt.error?.message as string | undefined) ?? attempt.note
    add(kind, attempt.started, attempt.ended, `attempt ${attempt.number} ${attempt.state}${words ? `: ${words}` : ''}`)
    const next = span.attempts[index + 1]
    if (next || attempt.again_at)
      add('gap', attempt.ended, next?.started ?? null, `waited to try again after ${String(attempt.error?.kind ?? 'a lost worker')}`)
  })
  return found
}
