import { computed, type Ref } from 'vue'
import { applied, type Change } from '../edit/changes'
import { broken, renameStep } from '../edit/scope'
import { nameOf, type Path, pathOf, Source } from '../edit/source'
import { insertSteps, inward, moveSteps, outward, removeSteps, stepsText } from '../edit/steps'
import type { Draft } from './draft'
import { behindRow, type Row } from './rows'

/** What hands do with the lines of a script. `focus` chooses a line, `told` says what is worth knowing. */
export function useHands(draft: Draft, rows: () => Row[], chosen: Ref<string>, focus: (path: string) => void, told: (text: string) => void) {
  const row = computed(() => rows().find((one) => one.path === chosen.value))

  /** Make an edit, say what it would leave without a source, and choose where it went. */
  function make(edit: (source: Source) => Change[], then?: string): boolean {
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
    if (then) focus(then)
    return true
  }
  function move(to: { list: Path; index: number } | undefined): void {
    if (!row.value?.own || !to) return
    const from = pathOf(row.value.path)
    const same = nameOf(from.slice(0, -1)) === nameOf(to.list)
    const index = same && to.index > (from.at(-1) as number) ? to.index - 1 : to.index
    make((source) => moveSteps(source, [from], to.list, to.index), nameOf([...to.list, index]))
  }
  function shift(by: number): void {
    const from = pathOf(chosen.value)
    const index = from.at(-1)
    if (typeof index !== 'number' || (by < 0 && index === 0)) return
    move({ list: from.slice(0, -1), index: by < 0 ? index - 1 : index + 2 })
  }
  function indent(out: boolean): void {
    const source = draft.source.value
    if (source) move(out ? outward(pathOf(chosen.value)) : inward(source, pathOf(chosen.value)))
  }
  function remove(): void {
    const one = row.value
    if (!one?.own) return
    const before = rows()[rows().findIndex((other) => other.path === one.path) - 1]
    if (make((source) => removeSteps(source, [pathOf(one.path)])) && before) focus(before.path)
  }
  function add(text: string, behind: string): void {
    const source = draft.source.value
    if (!source) return
    const to = behindRow(
      rows().find((one) => one.path === behind),
      source,
    )
    make((now) => insertSteps(now, to.list, to.index, text), nameOf([...to.list, to.index]))
  }
  function rename(path: string, name: string): void {
    if (make((source) => renameStep(source, pathOf(path), name))) focus(path)
  }
  async function copy(cut: boolean): Promise<void> {
    const source = draft.source.value
    if (!row.value?.own || !source) return
    await navigator.clipboard.writeText(stepsText(source, [pathOf(row.value.path)]))
    if (cut) remove()
  }
  return { row, make, move, shift, indent, remove, add, rename, copy }
}
