import type { Schemas } from '../api/client'
import { between } from '../lib/times'
import { type Brief, chosenPath, type Line } from './timeline'

type View = Schemas['ViewOut']
export interface Pair {
  line: Line
  a: Brief | null
  b: Brief | null
  /** What is not the same: how it went, what it was given, what it gave. */
  differs: string[]
}

/** The lines of two runs, each with what happened there in both: in the order of the first, those that it has not behind the line they
 * follow in the second. */
export function pairs(a: View, b: View): Pair[] {
  const lines = [...a.script]
  const known = new Set(lines.map((line) => `${line.kind} ${line.trace}`))
  b.script.forEach((line, index) => {
    if (known.has(`${line.kind} ${line.trace}`)) return
    const before = b.script[index - 1]
    const at = before ? lines.findIndex((one) => one.trace === before.trace && one.kind === before.kind) : -1
    lines.splice(at + 1, 0, line)
    known.add(`${line.kind} ${line.trace}`)
  })
  const [inA, inB] = [finder(a), finder(b)]
  return lines
    .filter((line) => line.kind !== 'arm' && line.kind !== 'strand')
    .map((line) => {
      const pair = { line, a: inA(line), b: inB(line) }
      return { ...pair, differs: differences(pair.a, pair.b) }
    })
}

function finder(view: View): (line: Line) => Brief | null {
  const spans = new Map(view.spans.map((span) => [span.path, span]))
  const loops = new Map(view.loops.map((loop) => [loop.path, loop]))
  return (line) => spans.get(chosenPath(line.trace, loops)) ?? null
}

function differences(a: Brief | null, b: Brief | null): string[] {
  if (!a || !b) return a || b ? ['taken'] : []
  const found: string[] = []
  if (a.state !== b.state || a.error?.message !== b.error?.message) found.push('outcome')
  if (a.tried !== b.tried) found.push('attempts')
  if (a.way !== b.way) found.push('way')
  if (a.given !== b.given) found.push('given')
  if (a.gave !== b.gave) found.push('gave')
  return found
}

export const seconds = (span: Brief | null) => (span ? between(span.started, span.ended) : null)

export interface Change {
  path: string
  before: unknown
  after: unknown
}

/** Where two values are not the same, at most so many places; what is only on one side is undefined on the other. */
export function changes(before: unknown, after: unknown, most = 200): Change[] {
  const found: Change[] = []
  const look = (path: string, one: unknown, other: unknown): void => {
    if (found.length >= most || Object.is(one, other)) return
    const both = [one, other].every((value) => value !== null && typeof value === 'object')
    if (!both || Array.isArray(one) !== Array.isArray(other)) {
      found.push({ path, before: one, after: other })
      return
    }
    const [left, right] = [one as Record<string, unknown>, other as Record<string, unknown>]
    for (const key of new Set([...Object.keys(left), ...Object.keys(right)]))
      look(Array.isArray(one) ? `${path}[${key}]` : path ? `${path}.${key}` : key, left[key], right[key])
  }
  look('', before, after)
  return found
}
