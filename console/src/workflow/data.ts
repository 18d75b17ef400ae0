import { reference } from '../edit/expressions'
import { scopeAt } from '../edit/scope'
import { nameOf, type Path, type Source } from '../edit/source'
import type { Schema } from './fields'

/** A part of what an earlier line gave, or of what the run was given. */
export interface Part {
  /** What it is called in an expression. */
  path: string[]
  /** Where it comes from, in words. */
  from: string
  /** What it is in the present sample; undefined where that is not known. */
  value: unknown
  list: boolean
  /** Of a loop's item: the path of its line. */
  line?: string
  /** Of a column of a list: what the list is called; whoever takes it is done for each of its items. */
  each?: string[]
}

/** What is known of the values: the sample, results of earlier lines, and the shapes of what they will be. */
export interface Known {
  input: unknown
  results: Record<string, unknown>
  shapes: Record<string, Schema>
}
const DEEPEST = 4
const MOST = 400

/** Everything that may be used at a place, part by part, what stands nearest first. */
export function parts(source: Source, at: Path, known: Known): Part[] {
  const scope = scopeAt(source, at)
  const found: Part[] = []
  const steps = [...scope].filter(([, path]) => path)
  const order = [...steps.reverse().map(([name]) => name), 'input', 'conversation', 'settings', 'event', 'now', 'run']
  for (const name of order) {
    if (!scope.has(name) || (name === 'settings' && !known.shapes[name]?.properties)) continue
    const place = scope.get(name) ?? null
    const from = place
      ? place.at(-1) === 'as'
        ? 'the item'
        : name
      : ({ input: 'what it is given', settings: 'the settings', event: 'the event', conversation: 'who talks' }[name] ?? name)
    const first = found.length
    add(found, [name], from, valueOf(name, place, source, known), known.shapes[name], 0)
    if (place?.at(-1) === 'as') for (const part of found.slice(first)) part.line = nameOf(place.slice(0, -1))
  }
  return found.slice(0, MOST)
}

function valueOf(name: string, place: Path | null, source: Source, known: Known): unknown {
  if (name === 'input') return known.input
  if (place?.at(-1) === 'as') {
    const each = source.value([...place.slice(0, -1), 'each'])
    const path = typeof each === 'string' ? reference(each) : null
    const list = path ? follow(path, known) : undefined
    return Array.isArray(list) ? list[0] : undefined
  }
  return known.results[name]
}

/** What a reference is in the present sample. */
export function follow(path: readonly string[], known: Known): unknown {
  let here: unknown = path[0] === 'input' ? known.input : known.results[path[0]!]
  for (const key of path.slice(1)) {
    if (here === null || typeof here !== 'object') return undefined
    here = (here as Record<string, unknown>)[key]
  }
  return here
}

function add(found: Part[], path: string[], from: string, value: unknown, shape: Schema | undefined, depth: number): void {
  if (found.length >= MOST) return
  found.push({ path, from, value, list: Array.isArray(value) || shape?.type === 'array' })
  if (depth >= DEEPEST) return
  const item = Array.isArray(value) ? (value[0] as unknown) : undefined
  for (const key of keysOf(item, shape?.items).slice(0, 60))
    found.push({ path: [...path, key], from, value: (item as Record<string, unknown> | undefined)?.[key], list: false, each: path })
  for (const key of keysOf(value, shape).slice(0, 60)) {
    add(found, [...path, key], from, (value as Record<string, unknown> | undefined)?.[key], shape?.properties?.[key], depth + 1)
  }
}

function keysOf(value: unknown, shape: Schema | undefined): string[] {
  return value && typeof value === 'object' && !Array.isArray(value) ? Object.keys(value) : Object.keys(shape?.properties ?? {})
}

/** A value on one short line; empty where it is not known. */
export function brief(value: unknown): string {
  if (value === undefined) return ''
  const text = typeof value === 'string' ? value : JSON.stringify(value)
  return text.length > 60 ? `${text.slice(0, 59)}…` : text
}

/** A reference in words: `guest’s email, from the event`. */
export function phrase(path: readonly string[]): string {
  const [first, ...rest] = path.map((key) => key.replace(/_/g, ' '))
  const source = { input: 'what it is given', settings: 'the settings', event: 'the event' }[path[0]!] ?? first!
  if (!rest.length) return path[0] === 'input' ? 'all that it is given' : first!
  const last = rest.at(-1)!
  const owner = rest.at(-2)
  const what = owner && !/^\d+$/.test(owner) ? `${owner}’s ${last}` : last
  return `${what}, from ${source}`
}

/** A part in words: of a column, that it is taken from each item. */
export function said(part: Part): string {
  return part.each ? `${part.path.at(-1)!.replace(/_/g, ' ')}, for each of ${phrase(part.each)}` : phrase(part.path)
}

/** The phrases of a text that is nothing but a reference, or null. */
export function phraseOf(value: unknown): string | null {
  const path = typeof value === 'string' ? reference(value) : null
  return path ? phrase(path) : null
}
