import { onScopeDispose, type Ref, shallowRef, type ShallowRef, watch } from 'vue'

/** A value that follows another once the page is painted, so that what is drawn at leisure from it keeps no key waiting. What
 * `same` takes for the same thing follows at once. */
export function useLater<T>(value: Readonly<Ref<T>>, same: (a: T, b: T) => boolean): ShallowRef<T> {
  const shown = shallowRef(value.value) as ShallowRef<T>
  let frame = 0
  let timer: number | undefined
  function leave(): void {
    cancelAnimationFrame(frame)
    window.clearTimeout(timer)
  }
  watch(value, (now) => {
    leave()
    if (window.document.hidden || same(shown.value, now)) shown.value = now
    else frame = requestAnimationFrame(() => (timer = window.setTimeout(() => (shown.value = value.value))))
  })
  onScopeDispose(leave)
  return shown
}
