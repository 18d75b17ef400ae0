import { ref } from 'vue'

/** Keys of a field over a list of `count` things (WAI-ARIA combobox): ↑ and ↓ choose one, Enter takes it, Escape leaves. */
export function useChoosing(count: () => number, take: (index: number) => void, leave?: () => void) {
  const at = ref(0)
  function key(event: KeyboardEvent): void {
    if (event.key === 'ArrowDown') at.value = Math.max(0, Math.min(at.value + 1, count() - 1))
    else if (event.key === 'ArrowUp') at.value = Math.max(at.value - 1, 0)
    else if (event.key === 'Enter') take(at.value)
    else if (event.key === 'Escape' && leave) leave()
    else return
    event.preventDefault()
    event.stopPropagation()
  }
  return { at, key }
}
