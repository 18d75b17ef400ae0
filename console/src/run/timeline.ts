import type { Schemas } from '../api/client'

export type Line = Schemas['LineOut']
export type Brief = Schemas['BriefOut']
export type Loop = Schemas['LoopOut']

export interface Bar {
  kind: 'work' | 'failed' | 'lost' | 'gap' | 'wait'
  from: number
  to: number
  title: string
}

export interface Row {
  line: Line
  span: Brief | null
  /** How far it is, when it is a list or loop. */
  loop: Loop | null
  taken: boolean
  bars: Bar[]
}

/** One row per sentence: what happened there, in the chosen items of lists and loops, and its bars between `from` and `to` (ms). */
export function rows(lines: readonly Line[], spans: readonly Brief[], loops: readonly Loop[], from: number, to: number): Row[] {
  // What was done each time that something was asked stands in one line: the last time.
  const byPath = new Map(spans.map((span) => [span.path.replace(/~\d+(?=[.!/])/g, ''), span]))
  const byLoop = new Map(loops.map((loop) => [loop.path, loop]))
  const inside = new Set([...byPath.keys()].map((path) => path.replace(/(!?)\.[^.]*$/, '$1')))
  const dead: string[] = []
  return lines.map((line) => {
    const path = chosenPath(line.trace, byLoop)
    if (line.kind === 'arm' || line.kind === 'strand') {
      const taken = wasTaken(path, byPath, inside)
      if (!taken) dead.push(line.path)
      return { line, span: null, loop: null, taken, bars: [] }
    }
    const reachable = !dead.some((arm) => line.path.startsWith(`${arm}.`))
    const span = reachable ? (byPath.get(path) ?? null) : null
    const loop = span ? (byLoop.get(path) ?? null) : null
    return { line, span, loop, taken: span !== null && span.state !== 'skipped', bars: span ? bars(span, WAITS.has(line.kind), from, to) : [] }
  })
}

/** Whether a run went the way that an arm or a strand stands for. */
function wasTaken(path: string, byPath: ReadonlyMap<string, Brief>, inside: ReadonlySet<string>): boolean {
  const [owner = '', mark = ''] = path.split('#')
  if (path.endsWith('!')) return inside.has(path)
  if (!path.includes('#')) return inside.has(path)
  return mark === 'tell' || mark === 'aside' ? inside.has(owner) : byPath.get(owner)?.way === Number(mark)
}

/** The path of spans for a line, with the chosen item of each loop in place of `[]`. */
export function chosenPath(trace: string, loops: ReadonlyMap<string, Loop>): string {
  let path = trace
  while (path.includes('[]')) {
    const owner = path.slice(0, path.indexOf('[]'))
    path = `${owner}[${loops.get(owner)?.chosen ?? 0}]${path.slice(owner.length + 2)}`
  }
  return path
}

/** Whether a place lies in no item of a list or loop in which `inner` does not lie: both are then seen at once. */
export function isAround(place: string, inner: string): boolean {
  const [step = ''] = place.split('/')
  return inner.startsWith(step.slice(0, step.lastIndexOf(']') + 1))
}

const WAITS = new Set(['ask', 'hand_over', 'wait'])

function bars(span: Brief, rests: boolean, from: number, to: number): Bar[] {
  const share = (at: number) => Math.min(1, Math.max(0, (at - from) / Math.max(1, to - from)))
  const found: Bar[] = []
  const add = (kind: Bar['kind'], start: string | null | undefined, end: string | null | undefined, title: string) => {
    if (start) found.push({ kind, from: share(Date.parse(start)), to: share(end ? Date.parse(end) : to), title })
  }
  if (!span.attempts.length) {
    const waits = rests || span.until !== null || span.state === 'waiting'
    add(
      span.state === 'failed' ? 'failed' : waits ? 'wait' : 'work',
      span.started,
      span.ended,
      span.until ? `waits until ${span.until}` : waits ? 'waits' : span.state,
    )
    return found
  }
  span.attempts.forEach((attempt, index) => {
    const kind = attempt.state === 'failed' ? 'failed' : attempt.state === 'lost' ? 'lost' : 'work'
    const words = attempt.error?.message ?? attempt.note
    add(kind, attempt.started, attempt.ended, `attempt ${attempt.number} ${attempt.state}${words ? `: ${words}` : ''}`)
    const next = span.attempts[index + 1]
    if (next || attempt.again_at)
      add('gap', attempt.ended, next?.started ?? null, `waited to try again after ${attempt.error?.kind ?? 'a lost worker'}`)
  })
  return found
}
