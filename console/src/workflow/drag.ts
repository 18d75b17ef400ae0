import { ref } from 'vue'
import type { Row } from './rows'

/** A line that is dragged by its number: `over` is the line behind which it would go, `put` moves it there. */
export function useDrag(put: (dragged: string, behind: Row) => void) {
  const over = ref('')
  let dragged = ''
  function begin(event: DragEvent, line: Row): void {
    if (!line.own || !event.dataTransfer) return
    dragged = line.path
    event.dataTransfer.effectAllowed = 'move'
    event.dataTransfer.setData('text/plain', line.sentence)
  }
  function hover(event: DragEvent, line: Row): void {
    if (!dragged) return
    event.preventDefault()
    over.value = line.path
  }
  function drop(line: Row): void {
    if (dragged) put(dragged, line)
    end()
  }
  function end(): void {
    over.value = dragged = ''
  }
  return { over, begin, hover, drop, end }
}
