import { shallowRef } from 'vue'

export interface Toast {
  id: number
  text: string
  /** Takes it back, as long as it can be. */
  undo?: () => void
  failed?: boolean
}
/** What is told for a moment, the newest last. */
export const toasts = shallowRef<readonly Toast[]>([])
const SHOWN = 5_000
const MOST = 4
let number = 0

function drop(id: number): void {
  toasts.value = toasts.value.filter((one) => one.id !== id)
}
export function dismiss(id: number): void {
  drop(id)
}

/** Tell something for a moment. */
export function toast(text: string, more: { undo?: () => void; failed?: boolean; for?: number } = {}): number {
  const id = ++number
  toasts.value = [...toasts.value, { id, text, undo: more.undo, failed: more.failed }].slice(-MOST)
  window.setTimeout(() => drop(id), more.for ?? (more.failed ? SHOWN * 2 : SHOWN))
  return id
}

const pending = new Set<(leaving: boolean) => void>()
window.addEventListener('pagehide', () => [...pending].forEach((go) => go(true)))

/** Do something in five seconds, unless it is taken back meanwhile; at once when the page is left. Gives whether it was done; what it
 * throws is told. `leaving`: the page is gone before there is an answer. */
export function later(text: string, work: (leaving: boolean) => Promise<unknown>, seconds = 5): Promise<boolean> {
  return new Promise((resolve) => {
    let over = false
    const close = () => {
      if (over) return false
      over = true
      window.clearTimeout(timer)
      pending.delete(go)
      drop(id)
      return true
    }
    const go = (leaving: boolean) => {
      if (!close()) return
      work(leaving).then(
        () => resolve(true),
        (error: Error) => {
          toast(error.message, { failed: true })
          resolve(false)
        },
      )
    }
    const undo = () => close() && resolve(false)
    const timer = window.setTimeout(() => go(false), seconds * 1000)
    pending.add(go)
    const id = toast(text, { undo, for: seconds * 1000 })
  })
}
