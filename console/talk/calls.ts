/** What the page asks of the service. Who talks here is known by a key that this browser keeps for this page. */

/** A file that was said: where its bytes are. */
export interface Shown {
  what: string
  name: string
  type: string
  address: string
}
/** A file that was given, as a message names it. */
export interface Given {
  file: string
  name: string
  type: string
  proof: string
}
export interface Line {
  seq: number
  side: 'them' | 'us'
  text: string
  buttons: string[]
  files: Shown[]
  id: string | null
  good: boolean | null
  at: string
}
export interface About {
  title: string
  greeting: string
  suggestions: string[]
  /** Words behind a slash, and what each is for. */
  commands: { word: string; about: string }[]
  colour: string | null
  picture: string | null
  accepts: string[]
  /** The version that is tried here; 0 where the page is on. */
  draft: number
}
/** A piece of an answer that is being written; `anew` where it is the first. */
export interface Words {
  text: string
  anew: boolean
}
export class Refused extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly wait: number,
    readonly detail = '',
  ) {
    super(message)
  }
}

const base = `/talk/${location.pathname.split('/')[2] ?? ''}`
const KEPT = `oak-relay ${base}`
const OPENS = `${KEPT} opens`
let kept = ''
let opens = location.hash.slice(1)

/** What opens a page that is not public: the end of its link, or its password; kept for the next time, where it opens no draft. */
export function open(word: string): void {
  opens = word
  if (word.startsWith('draft:')) return
  try {
    if (word) localStorage.setItem(OPENS, word)
    else localStorage.removeItem(OPENS)
  } catch {
    // It lasts as long as the page does.
  }
}
try {
  if (opens) open(decodeURIComponent(opens))
  else opens = localStorage.getItem(OPENS) ?? ''
} catch {
  // Nothing is kept in this browser, or it is no word.
}

/** So many random bytes, written in hex. */
export const random = (bytes: number): string =>
  [...crypto.getRandomValues(new Uint8Array(bytes))].map((one) => one.toString(16).padStart(2, '0')).join('')

/** The key of who talks; another one where the browser keeps nothing, for as long as the page is open. */
function visitor(): string {
  if (kept) return kept
  try {
    kept = localStorage.getItem(KEPT) ?? ''
  } catch {
    // Nothing is kept in this browser.
  }
  if (!/^[A-Za-z0-9_-]{22,100}$/.test(kept)) {
    kept = random(24)
    try {
      localStorage.setItem(KEPT, kept)
    } catch {
      // It lasts as long as the page does.
    }
  }
  return kept
}

/** Begin as somebody who was never here. */
export function forget(): void {
  try {
    localStorage.removeItem(KEPT)
  } catch {
    // There was nothing.
  }
  kept = ''
}

async function asked(path: string, more: RequestInit = {}): Promise<Response> {
  const answer = await fetch(`${base}${path}`, {
    ...more,
    headers: { 'X-Visitor': visitor(), ...(opens ? { 'X-Page-Key': encodeURI(opens) } : {}), ...more.headers },
  })
  if (answer.ok) return answer
  const told = (await answer.json().catch(() => ({}))) as { title?: string; detail?: string }
  throw new Refused(answer.status, told.title ?? 'it did not work', Number(answer.headers.get('Retry-After')) || 0, told.detail)
}

export const about = async (): Promise<About> => (await asked('/about')).json() as Promise<About>

export async function say(id: string, text: string, choice?: string, files: Given[] = []): Promise<void> {
  const body = JSON.stringify({ id, text, files, ...(choice === undefined ? {} : { choice }) })
  await asked('/messages', { method: 'POST', body, headers: { 'Content-Type': 'application/json' } })
}

/** Give a file, before a message goes with it. */
export async function give(file: File): Promise<Given> {
  const headers = { 'Content-Type': file.type || 'application/octet-stream' }
  const answer = await asked(`/files?name=${encodeURIComponent(file.name)}`, { method: 'POST', body: file, headers })
  return (await answer.json()) as Given
}

export async function judge(seq: number, good: boolean | null): Promise<void> {
  await asked('/verdicts', { method: 'POST', body: JSON.stringify({ seq, good }), headers: { 'Content-Type': 'application/json' } })
}

/** Tells what is said behind a number, until the stream ends or breaks. */
export async function listen(after: number, ends: AbortSignal, told: (event: string, data: string) => void): Promise<void> {
  const answer = await asked(`/stream?after=${after}`, { signal: ends })
  const reader = answer.body!.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { done, value } = await reader.read()
    if (done) return
    const events = (rest + value).split(/\r?\n\r?\n/)
    rest = events.pop() ?? ''
    for (const one of events) {
      const field = (name: string) =>
        one
          .split(/\r?\n/)
          .find((line) => line.startsWith(`${name}: `))
          ?.slice(name.length + 2)
      const [event, data] = [field('event'), field('data')]
      if (event && data !== undefined) told(event, data)
    }
  }
}
