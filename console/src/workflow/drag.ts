import { onBeforeUnmount, ref, type Ref } from 'vue'
import { type Path, pathOf, type Source } from '../edit/source'
import { behindRow, type Row } from './rows'

/** Where lines would be put: before or behind a line. */
export interface Target {
  path: string
  before: boolean
}
/** So far the pointer goes before a press is a drag, in pixels. */
const FAR = 5

/** Lines are dragged by their number. `grab` chooses the line that is taken hold of, `drop` moves what is chosen. */
export function useDrag(
  list: Readonly<Ref<HTMLElement | null>>,
  rows: () => Row[],
  source: () => Source | null,
  grab: (path: string) => void,
  drop: (to: { list: Path; index: number }) => void,
) {
  const target = ref<Target | null>(null)
  let from: { path: string; y: number } | null = null

  function down(event: PointerEvent): void {
    const line = (event.target as HTMLElement).closest('.number')?.closest<HTMLElement>('[data-path]')
    const path = line?.dataset.path ?? ''
    if (event.button !== 0 || !rows().some((one) => one.own && one.path === path)) return
    from = { path, y: event.clientY }
    document.addEventListener('pointermove', move)
    document.addEventListener('pointerup', up)
    document.addEventListener('pointercancel', leave)
    document.addEventListener('keydown', escape, true)
  }
  function move(event: PointerEvent): void {
    if (!from || (!target.value && Math.abs(event.clientY - from.y) < FAR)) return
    if (!target.value) grab(from.path)
    event.preventDefault()
    const line = document.elementFromPoint(event.clientX, event.clientY)?.closest<HTMLElement>('[data-path]')
    if (!line || !list.value?.contains(line)) return
    const { top, height } = line.getBoundingClientRect()
    target.value = { path: line.dataset.path!, before: event.clientY < top + height / 2 }
  }
  function up(): void {
    const to = target.value
    leave()
    const place = to && placeOf(to)
    if (place) drop(place)
  }
  function placeOf(to: Target): { list: Path; index: number } | null {
    const row = rows().find((one) => one.path === to.path)
    const now = source()
    if (!row || !now) return null
    if (!row.own || !to.before) return behindRow(row, now)
    const path = pathOf(row.path)
    return { list: path.slice(0, -1), index: path.at(-1) as number }
  }
  function escape(event: KeyboardEvent): void {
    if (event.key === 'Escape') leave()
  }
  function leave(): void {
    from = target.value = null
    document.removeEventListener('pointermove', move)
    document.removeEventListener('pointerup', up)
    document.removeEventListener('pointercancel', leave)
    document.removeEventListener('keydown', escape, true)
  }
  onBeforeUnmount(leave)
  /** Where lines would be put of a line: above it, below it, or nowhere. */
  const dropped = (path: string) => (target.value?.path !== path ? '' : target.value.before ? 'above' : 'below')
  return { down, dropped }
}
