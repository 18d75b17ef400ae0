import { onBeforeUnmount, onMounted } from 'vue'
import { PLACES } from './places'

/** Whether a key is pressed that stands for itself: nothing is held with it, nothing is being written, and no dialog is open. */
export function isPlain(event: KeyboardEvent): boolean {
  if (event.defaultPrevented || event.ctrlKey || event.metaKey || event.altKey || event.isComposing || event.repeat) return false
  const on = event.target as HTMLElement | null
  if (on && (on.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(on.tagName))) return false
  return !document.querySelector('.modal.show')
}

/** What keys do, by where. */
export const KEYS: readonly (readonly [where: string, keys: readonly (readonly [key: string, does: string])[]])[] = [
  [
    'Anywhere',
    [
      ['/', 'search'],
      ['?', 'these keys'],
      ['g and a letter', 'go to a page'],
    ],
  ],
  [
    'A workflow',
    [
      ['↑ ↓', 'choose a line'],
      ['Enter', 'a new line'],
      ['Alt ↑ ↓', 'move a line'],
      ['F2', 'rename a step'],
      ['Del', 'remove a line'],
      ['Ctrl Z, Ctrl Y', 'undo, do again'],
      ['Ctrl C, X, V', 'copy, cut and paste lines'],
      ['Ctrl S', 'save'],
    ],
  ],
  ['A run', [['↑ ↓', 'choose a step']]],
  ['The tray', [['1 … 9', 'answer the question that has the focus; undone within five seconds']]],
  [
    'A table',
    [
      ['Enter', 'write in a cell, and keep it'],
      ['Esc', 'leave it as it was'],
    ],
  ],
]

const WITHIN = 1500

/** Keys that do the same on every page: `/` and `?` open what they are for, `g` and a letter go to a page. */
export function useGlobalKeys(open: (what: 'search' | 'keys') => void, go: (path: string) => void): void {
  let going = -WITHIN
  function pressed(event: KeyboardEvent): void {
    if (!isPlain(event)) return
    const leads = performance.now() - going < WITHIN ? PLACES.find((one) => one.key === event.key) : undefined
    going = event.key === 'g' && !leads ? performance.now() : -WITHIN
    if (leads) go(leads.path)
    else if (event.key === '/') open('search')
    else if (event.key === '?') open('keys')
    else return
    event.preventDefault()
  }
  onMounted(() => window.addEventListener('keydown', pressed))
  onBeforeUnmount(() => window.removeEventListener('keydown', pressed))
}
