import { onBeforeUnmount, onMounted, ref } from 'vue'
import { onBeforeRouteLeave } from 'vue-router'
import { type Draft, keep, kept } from './draft'

/** Nothing that is typed is lost: what was not saved is shown again, leaving asks, and Ctrl+S saves. */
export function useGuard(draft: Draft, place: () => string, first: () => string, save: () => Promise<unknown>) {
  const again = ref('')

  /** Show again what was written here before and not saved. */
  function restore(): void {
    const found = kept(place())
    if (!found || found.text === draft.text.value) return
    draft.type(found.text)
    draft.base.value = found.base ?? draft.base.value
    again.value = found.at
  }
  function discard(): void {
    again.value = ''
    draft.type(first())
    keep(place(), null)
  }
  function key(event: KeyboardEvent): void {
    if (!(event.ctrlKey || event.metaKey) || event.key !== 's') return
    event.preventDefault()
    void save()
  }
  function leaving(event: BeforeUnloadEvent): void {
    if (draft.changed.value) event.preventDefault()
  }
  onMounted(() => {
    window.addEventListener('keydown', key)
    window.addEventListener('beforeunload', leaving)
  })
  onBeforeUnmount(() => {
    window.removeEventListener('keydown', key)
    window.removeEventListener('beforeunload', leaving)
  })
  onBeforeRouteLeave((to) => {
    const saved = !draft.changed.value || to.path.endsWith(`/${place().split(' ').at(-1)}`)
    return saved || window.confirm('Leave? What is not saved is kept in this browser.')
  })
  return { again, restore, discard }
}
