import type { Shown } from './calls'

/** Files on the page: chosen, dropped or pasted by who visits; and shown, of both sides. */

type Made = <K extends keyof HTMLElementTagNameMap>(
  name: K,
  given?: Record<string, unknown>,
  ...inside: (Node | string)[]
) => HTMLElementTagNameMap[K]
const MOST = 5
const TYPES: Record<string, string> = { picture: 'image/*', voice: 'audio/*', file: '*/*' }
const SEEN = ['image/gif', 'image/jpeg', 'image/png', 'image/webp']

/** A picture as itself, anything else as its name, to be taken down. */
export function pictured(file: Shown, made: Made): HTMLElement {
  const link = made('a', { href: file.address, target: '_blank', rel: 'noopener', className: 'file' })
  if (SEEN.includes(file.type)) link.append(made('img', { src: file.address, alt: file.name || 'A picture', loading: 'lazy' }))
  else link.append(file.name || `A ${file.what}`)
  return link
}

/** What is to go with the next message. */
export function attaching(field: HTMLTextAreaElement, made: Made) {
  let files: File[] = []
  let taken: string[] = []
  const chosen = made('ul', { className: 'chosen' })
  chosen.setAttribute('aria-label', 'Files to be sent')
  const input = made('input', { type: 'file', multiple: true, hidden: true })
  const button = made('button', { type: 'button', title: 'Add a picture or a file' }, 'Add')
  button.setAttribute('aria-label', 'Add a picture or a file')
  button.onclick = () => input.click()
  input.onchange = () => {
    add([...(input.files ?? [])])
    input.value = ''
    field.focus()
  }

  function add(more: File[]): void {
    const fits = more.filter((one) => taken.includes('file') || taken.some((what) => one.type.startsWith(TYPES[what]!.slice(0, -1))))
    files = [...files, ...fits].slice(0, MOST)
    show()
  }

  function show(): void {
    chosen.replaceChildren(
      ...files.map((file) => {
        const away = made('button', { type: 'button' }, 'Leave out')
        away.setAttribute('aria-label', `Leave out ${file.name}`)
        away.onclick = () => {
          files = files.filter((one) => one !== file)
          show()
          field.focus()
        }
        return made('li', {}, made('span', {}, file.name), away)
      }),
    )
  }

  field.addEventListener('paste', (event) => add([...(event.clipboardData?.files ?? [])]))
  field.addEventListener('dragover', (event) => event.preventDefault())
  field.addEventListener('drop', (event) => {
    if (!event.dataTransfer?.files.length) return
    event.preventDefault()
    add([...event.dataTransfer.files])
  })

  return {
    chosen,
    some: () => files.length > 0,
    /** The files that were chosen; from now on none are. */
    take(): File[] {
      const all = files
      files = []
      show()
      return all
    },
    /** What stands beside the field of a page that takes some. */
    offered(accepts: string[]): HTMLElement[] {
      taken = accepts
      input.accept = accepts.map((what) => TYPES[what] ?? '').join(',')
      return accepts.length ? [button, input] : []
    },
  }
}
