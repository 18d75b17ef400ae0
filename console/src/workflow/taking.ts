import { inject, type InjectionKey, provide, shallowRef, type ShallowRef } from 'vue'
import type { Part } from './data'
import type { Row } from './rows'

/** A field that is being written, into which data from the run may go. */
export interface Taker {
  /** What the field is called. */
  title: string
  parts: Part[]
  take: (part: Part) => void
}
/** What a field says, made of the expression that goes into it. */
export type Made = (given: string) => unknown
const KEY: InjectionKey<ShallowRef<Taker | null>> = Symbol('taking')

/** The field that is being written, for all that stands below: the script opens and shows what may go into it. */
export function provideTaking(): ShallowRef<Taker | null> {
  const taking = shallowRef<Taker | null>(null)
  provide(KEY, taking)
  return taking
}
export function useTaking(): ShallowRef<Taker | null> {
  return inject(KEY, () => shallowRef<Taker | null>(null), true)
}

/** The parts that come from each line, by its path. */
export function givenBy(rows: readonly Row[], parts: readonly Part[]): Map<string, Part[]> {
  const found = new Map<string, Part[]>()
  const input = rows.find((row) => row.kind === 'input')?.path
  const start = rows.find((row) => row.kind === 'trigger')?.path
  const lines = new Map(rows.filter((row) => row.own).map((row) => [row.step, row.path]))
  for (const part of parts) {
    const name = part.path[0]!
    const path = name === 'input' || name === 'settings' ? input : name === 'event' ? start : part.line ? part.line : lines.get(name)
    if (path) found.set(path, [...(found.get(path) ?? []), part])
  }
  return found
}

/** A text in which a piece stands where the cursor was, with a space before it where it would touch a word. */
export function put(text: string, at: number | null, piece: string): string {
  const place = at === null ? text.length : Math.min(at, text.length)
  const before = text.slice(0, place)
  return `${before}${before && !/\s$/.test(before) ? ' ' : ''}${piece}${text.slice(place)}`
}
