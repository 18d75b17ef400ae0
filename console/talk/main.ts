import './look.css'
import { written } from '../src/lib/written'
import { commanding } from './commands'
import { attaching, pictured } from './files'
import { tint } from './tint'
import { about, type About, forget, give, type Given, judge, type Line, listen, open, random, Refused, say, type Words } from './calls'

/** A page on which somebody talks. Lines are added to a log that screen readers follow; what was sent and is not yet taken waits below. */

interface Waiting {
  id: string
  text: string
  choice?: string
  files: File[]
  /** Those of them that were taken already. */
  given: Given[]
  taken: boolean
  fault: string
}

const LONGEST = 4000
let last = -1
let ends = new AbortController()
const waiting: Waiting[] = []
const root = document.getElementById('talk')!

function made<K extends keyof HTMLElementTagNameMap>(
  name: K,
  given: Record<string, unknown> = {},
  ...inside: (Node | string)[]
): HTMLElementTagNameMap[K] {
  const one = Object.assign(document.createElement(name) as HTMLElement, given)
  one.append(...inside)
  return one as HTMLElementTagNameMap[K]
}

const log = made('ol', { className: 'log' })
const said = made('div', {}, log)
said.setAttribute('role', 'log')
said.setAttribute('aria-label', 'What was said')
said.tabIndex = 0
const unsent = made('ol', { className: 'log unsent' })
unsent.setAttribute('aria-label', 'What is being sent')
const answering = made('p', { className: 'answering', hidden: true }, 'An answer is being written…')
answering.setAttribute('role', 'status')
const draft = made('ol', { className: 'log', hidden: true })
draft.setAttribute('aria-hidden', 'true') // who hears the page is told the whole answer once
let writing = ''
const note = made('p', { className: 'note', hidden: true })
note.setAttribute('role', 'alert')
const choices = made('div', { className: 'choices' })
choices.setAttribute('role', 'group')
choices.setAttribute('aria-label', 'Answers to choose from')
const field = made('textarea', { rows: 1, maxLength: LONGEST, placeholder: 'Write here' })
field.setAttribute('aria-label', 'Your message')
const send = made('button', { type: 'submit' }, 'Send')

const files = attaching(field, made)

function shown(line: Pick<Line, 'side' | 'text'> & { files?: Line['files'] }, more: (Node | string)[] = []): HTMLLIElement {
  const who = made('span', { className: 'hidden' }, line.side === 'them' ? 'You: ' : 'Answer: ')
  const words = made('div', { className: 'words' })
  if (line.side === 'us')
    words.innerHTML = written(line.text) // the reader lets no HTML through
  else words.textContent = line.text
  const inside = [...(line.files ?? []).map((file) => pictured(file, made)), ...(line.text ? [words] : [])]
  return made('li', { className: line.side }, who, ...inside, ...more)
}

function atEnd(): boolean {
  return root.scrollHeight - root.scrollTop - root.clientHeight < 120
}

function come(line: Line): void {
  if (line.seq <= last) return
  last = line.seq
  const near = atEnd()
  const place = waiting.findIndex((one) => one.id === line.id)
  if (place >= 0) waiting.splice(place, 1)
  log.append(shown(line, line.side === 'us' ? [verdict(line)] : []))
  if (line.side === 'us') write('')
  offer(line.side === 'us' ? line.buttons : [])
  below()
  if (near || line.side === 'them') root.scrollTop = root.scrollHeight
}

/** Show as much of an answer as was written; nothing of it once it is said, or never will be. */
function write(text: string): void {
  const near = atEnd()
  writing = text
  draft.hidden = !text
  draft.replaceChildren(...(text ? [shown({ side: 'us', text })] : []))
  if (text && near) root.scrollTop = root.scrollHeight
}

/** Whether an answer was good, as who reads it finds; the same again takes it back. */
function verdict(line: Line): HTMLElement {
  let said = line.good
  const buttons = [true, false].map((good) => {
    const one = made('button', { type: 'button', title: good ? 'A good answer' : 'A bad answer' }, good ? 'good' : 'bad')
    one.onclick = () => {
      const before = said
      said = said === good ? null : good
      mark()
      judge(line.seq, said).catch(() => {
        said = before
        mark()
      })
    }
    return one
  })
  const mark = () => buttons.forEach((one, n) => one.setAttribute('aria-pressed', String(said === (n === 0))))
  mark()
  const group = made('div', { className: 'verdict' }, ...buttons)
  group.setAttribute('role', 'group')
  group.setAttribute('aria-label', 'Was this answer good?')
  return group
}

function below(): void {
  unsent.replaceChildren(
    ...waiting.map((one) => {
      const more = made('button', { type: 'button', onclick: () => again(one) }, 'Send again')
      const named = one.files.map((file) => file.name).join(', ')
      return shown(
        { side: 'them', text: [named, one.text].filter(Boolean).join('\n') },
        one.fault ? [made('p', { className: 'fault' }, `${one.fault} `, more)] : [],
      )
    }),
  )
}

function offer(words: string[], suggested = false): void {
  choices.replaceChildren(...words.map((word) => made('button', { type: 'button', onclick: () => press(word, suggested) }, word)))
}

function press(word: string, suggested: boolean): void {
  choices.replaceChildren()
  push(word, suggested ? undefined : word)
  field.focus()
}

function push(text: string, choice?: string): void {
  const one: Waiting = {
    id: random(16),
    text,
    ...(choice === undefined ? {} : { choice }),
    files: files.take(),
    given: [],
    taken: false,
    fault: '',
  }
  waiting.push(one)
  below()
  root.scrollTop = root.scrollHeight
  void flow()
}

function again(one: Waiting): void {
  one.fault = ''
  below()
  void flow()
}

let flowing = false
/** Send what waits, one after the other: it is said in the order in which it was written. */
async function flow(): Promise<void> {
  if (flowing) return
  flowing = true
  for (let next; (next = waiting.find((one) => !one.taken && !one.fault));) await out(next)
  flowing = false
}

async function out(one: Waiting): Promise<void> {
  try {
    for (const file of one.files.slice(one.given.length)) one.given.push(await give(file))
    await say(one.id, one.text, one.choice, one.given)
    one.taken = true
  } catch (error) {
    one.fault =
      error instanceof Refused
        ? error.wait
          ? `Not sent: ${error.message}; wait ${error.wait} seconds.`
          : `Not sent: ${error.message}.`
        : 'Not sent: the other side is away.'
    below()
  }
}

async function follow(): Promise<void> {
  let pause = 500
  for (;;) {
    ends = new AbortController()
    try {
      await listen(last, ends.signal, (event, data) => {
        pause = 500
        note.hidden = true
        if (event === 'said') come(JSON.parse(data) as Line)
        if (event === 'answering') {
          answering.hidden = data !== 'true'
          if (answering.hidden) write('')
        }
        if (event === 'writing') {
          const words = JSON.parse(data) as Words
          write((words.anew ? '' : writing) + words.text)
        }
      })
    } catch (error) {
      if (!ends.signal.aborted) {
        note.textContent =
          error instanceof Refused && error.status === 404 ? 'Nobody talks here any more.' : 'The other side is away; this page tries again.'
        note.hidden = false
      }
    }
    if (!ends.signal.aborted) await new Promise((go) => setTimeout(go, pause))
    pause = Math.min(pause * 2, 15_000)
  }
}

function begin(given: About): void {
  document.title = given.title
  if (given.colour) tint(given.colour)
  const clear = made('button', { type: 'button', className: 'clear' }, 'Begin anew')
  clear.onclick = () => {
    forget()
    write('')
    last = -1
    waiting.length = 0
    log.replaceChildren()
    greet(given)
    below()
    ends.abort()
    field.focus()
  }
  const form = made('form', { onsubmit: submit }, ...files.offered(given.accepts), field, send)
  root.append(
    made('header', {}, ...(given.picture ? [made('img', { src: given.picture, alt: '' })] : []), made('h1', {}, given.title), clear),
    ...(given.draft ? [made('p', { className: 'tried' }, `Version ${given.draft} is tried here. Nobody else sees this.`)] : []),
    made('main', {}, said, unsent, draft, answering),
    made('footer', {}, note, choices, commanding(field, given.commands, push), files.chosen, form),
  )
  greet(given)
  field.focus()
  void follow()
}

function greet(given: About): void {
  if (given.greeting) log.append(shown({ side: 'us', text: given.greeting }))
  offer(given.suggestions, true)
}

function submit(event: Event): void {
  event.preventDefault()
  const text = field.value.trim()
  if (!text && !files.some()) return
  field.value = ''
  field.dispatchEvent(new Event('input'))
  choices.replaceChildren()
  push(text)
}

function grow(): void {
  field.style.height = 'auto'
  field.style.height = `${Math.min(field.scrollHeight + 2, 160)}px`
}

field.addEventListener('input', grow)
field.addEventListener('keydown', (event) => {
  if (event.key === 'Enter' && !event.shiftKey && !event.isComposing) submit(event)
})
/** A page that asks for a password, until it is the right one. */
function ask(wrong: string): void {
  const word = made('input', { type: 'password', autocomplete: 'current-password', required: true })
  word.setAttribute('aria-label', 'Password')
  const fault = made('p', { className: 'note', hidden: !wrong }, wrong)
  fault.setAttribute('role', 'alert')
  const go = (event: Event) => {
    event.preventDefault()
    open(word.value)
    start(true)
  }
  root.replaceChildren(
    made(
      'main',
      {},
      made('h1', {}, 'This page asks for a password'),
      made('form', { className: 'opens', onsubmit: go }, word, made('button', { type: 'submit' }, 'Open')),
      fault,
    ),
  )
  word.focus()
}

function start(tried = false): void {
  about().then((given) => {
    root.replaceChildren()
    begin(given)
  }, closed(tried))
}

const closed = (tried: boolean) => (error: Error) => {
  if (error instanceof Refused && error.detail === 'password') return ask(tried ? 'That is not the password.' : '')
  if (error instanceof Refused && error.status === 429) return ask(`Too many wrong tries: wait ${error.wait} seconds.`)
  const shut = error instanceof Refused && error.detail === 'link'
  const gone = error instanceof Refused && error.status === 404
  root.replaceChildren(
    made(
      'main',
      {},
      made('h1', {}, shut ? 'This page opens by its whole link alone' : gone ? 'Nobody talks here' : 'The other side is away'),
      made('p', {}, shut || gone ? 'Is the address right? Whoever gave it to you may know.' : 'Load this page again in a while.'),
    ),
  )
}
start()
