import { computed, type Ref } from 'vue'
import { applied, type Change } from '../edit/changes'
import { stepsOf } from '../edit/paste'
import { broken, renameStep } from '../edit/scope'
import { nameKey, nameOf, type Path, pathOf, Source } from '../edit/source'
import { writeSketch } from '../edit/sketch'
import { insertSteps, inward, moveSteps, outward, removeSteps, stepsText, wrapSteps } from '../edit/steps'
import type { Draft } from './draft'
import { behindRow, type Row } from './rows'

/** What hands do with the lines of a script. `focus` chooses a line, and with a second path all from there to it; `told` says what is
 * worth knowing. `anchor` is where a choice of several lines of one list began; empty for one line. */
export function useHands(
  draft: Draft,
  rows: () => Row[],
  chosen: Ref<string>,
  anchor: Ref<string>,
  focus: (path: string, from?: string) => void,
  told: (text: string) => void,
) {
  const row = computed(() => rows().find((one) => one.path === chosen.value))
  /** The steps that are chosen, in order. */
  const several = computed<Path[]>(() => {
    if (!row.value?.own) return []
    const [from, to] = [pathOf(anchor.value || chosen.value), pathOf(chosen.value)]
    const list = to.slice(0, -1)
    if (nameOf(from.slice(0, -1)) !== nameOf(list)) return [to]
    const [first, last] = [from.at(-1) as number, to.at(-1) as number].sort((a, b) => a - b) as [number, number]
    return Array.from({ length: last - first + 1 }, (_, n) => [...list, first + n])
  })
  const marked = computed(() => new Set(several.value.length > 1 ? several.value.map(nameOf) : []))

  /** Make an edit, say what it would leave without a source, and choose where it went. */
  function make(edit: (source: Source) => Change[], then?: string, until?: string): boolean {
    let lost: string[] = []
    const done = draft.edit((source) => {
      const changes = edit(source)
      const after = Source.read(applied(source.text, changes))
      if (after) lost = broken(source, after)
      return changes
    })
    if (!done) return false
    const are = lost.length === 1 ? 'is' : 'are'
    told(lost.length ? `${lost.join(', ')} ${are} used where nothing gives ${lost.length === 1 ? 'it' : 'them'} any more. Ctrl+Z takes it back.` : '')
    if (then) focus(then, until)
    return true
  }
  /** Move the chosen lines; they stay chosen. */
  function move(to: { list: Path; index: number } | undefined): void {
    const paths = several.value
    const from = paths[0]
    if (!from || !to) return
    const same = nameOf(from.slice(0, -1)) === nameOf(to.list)
    const index = same && to.index > (from.at(-1) as number) ? to.index - paths.length : to.index
    const [first, last] = [nameOf([...to.list, index]), nameOf([...to.list, index + paths.length - 1])]
    make((source) => moveSteps(source, paths, to.list, to.index), last, first)
  }
  function shift(by: number): void {
    const [first, last] = [several.value[0]?.at(-1), several.value.at(-1)?.at(-1)]
    if (typeof first !== 'number' || typeof last !== 'number' || (by < 0 && first === 0)) return
    move({ list: several.value[0]!.slice(0, -1), index: by < 0 ? first - 1 : last + 2 })
  }
  function indent(out: boolean): void {
    const source = draft.source.value
    const first = several.value[0]
    if (source && first) move(out ? outward(first) : inward(source, first))
  }
  function remove(): void {
    const paths = several.value
    if (!paths.length) return
    const before = rows()[rows().findIndex((other) => other.path === nameOf(paths[0]!)) - 1]
    if (make((source) => removeSteps(source, paths)) && before) focus(before.path)
  }
  /** Choose the line so many further down. */
  function step(by: number): void {
    const at = rows().findIndex((one) => one.path === chosen.value)
    const next = rows()[Math.max(0, Math.min(rows().length - 1, at + by))]
    if (next) focus(next.path)
  }
  /** Choose one more line of the same list, or one less. */
  function extend(by: number): void {
    const to = pathOf(chosen.value)
    const next = nameOf([...to.slice(0, -1), (to.at(-1) as number) + by])
    if (row.value?.own && rows().some((one) => one.own && one.path === next)) focus(next, anchor.value || chosen.value)
  }
  /** Put the chosen lines into one that is written around them. */
  function wrap(step: Record<string, unknown>): void {
    const paths = several.value
    if (paths.length) make((source) => wrapSteps(source, paths, step), nameOf(paths[0]!))
  }
  /** Put lines behind one; what is chosen for a sketch stands `instead` of it. */
  function add(text: string, behind: string, instead = false): void {
    const source = draft.source.value
    if (!source) return
    if (nameKey(source) === 'agent') return told('An agent has no lines of its own: make a workflow that runs it.')
    const row = rows().find((one) => one.path === behind)
    const step = instead && row?.kind === 'todo' ? stepsOf(text)?.[0] : undefined
    if (row && step) return void make((now) => writeSketch(now, pathOf(row.path), step as Record<string, unknown>), row.path)
    const to = behindRow(row, source)
    make((now) => insertSteps(now, to.list, to.index, text), nameOf([...to.list, to.index]))
  }
  function rename(path: string, name: string): void {
    if (make((source) => renameStep(source, pathOf(path), name))) focus(path)
  }
  async function copy(cut: boolean): Promise<void> {
    const source = draft.source.value
    if (!several.value.length || !source) return
    await navigator.clipboard.writeText(stepsText(source, several.value))
    if (cut) remove()
  }
  return { row, several, marked, step, make, move, shift, indent, extend, wrap, remove, add, rename, copy }
}
