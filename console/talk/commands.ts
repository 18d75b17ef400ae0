import type { About } from './calls'

/** The words behind a slash that are known here: shown while one is being written, and said by a press. */
export function commanding(field: HTMLTextAreaElement, known: About['commands'], say: (text: string) => void): HTMLElement {
  const offered = document.createElement('div')
  offered.className = 'choices commands'
  offered.setAttribute('role', 'group')
  offered.setAttribute('aria-label', 'Commands')
  const show = () => {
    const begun = /^\/(\S*)$/.exec(field.value)?.[1]?.toLowerCase()
    offered.replaceChildren(...(begun === undefined ? [] : known.filter((one) => one.word.startsWith(begun)).map(made)))
  }
  const made = ({ word, about }: About['commands'][number]) => {
    const one = document.createElement('button')
    one.type = 'button'
    one.append(`/${word} `, Object.assign(document.createElement('span'), { textContent: about }))
    one.onclick = () => {
      field.value = ''
      field.dispatchEvent(new Event('input'))
      say(`/${word}`)
      field.focus()
    }
    return one
  }
  field.addEventListener('input', show)
  return offered
}
