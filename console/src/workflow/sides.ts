import { computed, onBeforeUnmount, ref, type Ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Finding } from '../api/client'
import { Outline } from '../edit/outline'
import { pathOf } from '../edit/source'
import type { Draft } from './draft'
import { type Row, rowOf } from './rows'

/** Milliseconds. */
const REST = 200
type Editor = { goTo: (line: number, quietly?: boolean) => void } | null

/** The line that is chosen and the side that is open, both in the address; each side follows the other’s cursor. */
export function useSides(draft: Draft, rows: () => Row[], editor: Readonly<Ref<Editor>>) {
  const route = useRoute()
  const router = useRouter()
  const side = computed<'bench' | 'document'>({
    get: () => (route.query.side === 'document' ? 'document' : 'bench'),
    set: (to) => void router.replace({ query: { ...route.query, side: to === 'document' ? to : undefined } }),
  })
  const line = ref(String(route.query.line ?? ''))
  let timer: number | undefined
  let written = line.value
  const chosen = computed<string>({
    get: () => line.value,
    set: (to) => {
      line.value = to
      // The address follows once the keys rest.
      window.clearTimeout(timer)
      timer = window.setTimeout(() => {
        written = to
        void router.replace({ query: { ...route.query, line: to || undefined } })
      }, REST)
    },
  })
  watch(
    () => route.query.line,
    // An address that was written here says where the keys were, and they may be further by now.
    (now) => void (String(now ?? '') !== written && (line.value = written = String(now ?? ''))),
  )
  onBeforeUnmount(() => window.clearTimeout(timer))
  const rowAt = (path: string) => rowOf(rows(), path)
  let own = ''
  watch(chosen, (path) => {
    const entry = side.value === 'document' && path !== own ? draft.source.value?.entry(pathOf(path)) : undefined
    if (entry) editor.value?.goTo(draft.text.value.slice(0, entry.line).split('\n').length, true)
  })
  /** The cursor of the document stands at an offset: its line is chosen in the script. */
  function at(offset: number): void {
    const row = rowAt(new Outline(draft.text.value, offset).place.path.join('.'))
    if (!row || row.path === chosen.value) return
    own = row.path
    chosen.value = row.path
  }
  /** Show where a finding is: its line on the bench, or the place in the document. */
  function go(finding: Finding): void {
    const row = rowAt(finding.path)
    if (row) chosen.value = row.path
    if (side.value === 'document' || !row) {
      side.value = 'document'
      requestAnimationFrame(() => editor.value?.goTo(finding.line))
    }
  }
  return { side, chosen, at, go }
}
