import { onScopeDispose, ref } from 'vue'
import type { Run } from '../api/client'

/** What models of a run that is watched are just writing; `at` is where in its text a piece begins. */
export interface Piece {
  run: string
  path: string
  attempt: number
  at: number
  text: string
}
/** What a page wants to hear of: a run that changed, and that something may have changed which was not told. */
export interface Heard {
  run?: (run: Run) => void
  many?: () => void
  piece?: (piece: Piece) => void
}
type Told =
  | { kind: 'event'; name: keyof Heard; data: string }
  | { kind: 'alive'; away: boolean }
  | { kind: 'watch'; tab: string; ids: string[] }
  | { kind: 'who' }

const STREAM = '/api/v1/runs/stream'
const NAME = 'oak-relay-stream'
const ALIVE = 4_000
/** Milliseconds of silence after which a tab that is looked at takes the stream from the one that has it: the service says something
 * every five seconds. */
const SILENT = 12_000
const MOST_WATCHED = 32

/** Whether the service is not heard of. */
export const away = ref(false)

const tab = crypto.randomUUID?.() ?? String(Math.random())
const listeners = new Set<Heard>()
const own = new Map<string, number>()
const others = new Map<string, string[]>()
let channel: BroadcastChannel | null = null
let source: EventSource | null = null
let watching = ''
let leading = false
let asking = false
let begun = false
let ending: number | undefined
let heardAt = 0
let timer: number | undefined

function deliver(name: keyof Heard, text: string): void {
  const given: unknown = JSON.parse(text)
  for (const one of [...listeners]) (one[name] as ((given: unknown) => void) | undefined)?.(given)
}

function tell(told: Told): void {
  channel?.postMessage(told)
}

function saw(service: boolean): void {
  heardAt = Date.now()
  away.value = !service
}

/** All that is watched, by this tab and, where it has the stream for them, by the others. */
function watched(): string[] {
  return [...new Set([...own.keys(), ...[...others.values()].flat()])].sort().slice(0, MOST_WATCHED)
}

function open(): void {
  const ids = watched()
  const address = ids.length ? `${STREAM}?${ids.map((id) => `watch=${id}`).join('&')}` : STREAM
  if (source && source.readyState !== EventSource.CLOSED && watching === address) return
  source?.close()
  watching = address
  const mine = (source = new EventSource(address))
  const pass = (name: keyof Heard) => (event: MessageEvent<string>) => {
    saw(true)
    deliver(name, event.data)
    if (leading) tell({ kind: 'event', name, data: event.data })
  }
  const alive = () => {
    saw(true)
    if (leading) tell({ kind: 'alive', away: false })
  }
  mine.addEventListener('ready', pass('many')) // what was missed meanwhile is fetched
  mine.addEventListener('many', pass('many'))
  mine.addEventListener('run', pass('run'))
  mine.addEventListener('piece', pass('piece'))
  mine.addEventListener('tick', alive)
  mine.addEventListener('error', () => {
    saw(false)
    if (leading) tell({ kind: 'alive', away: true })
    // A stream that was refused is not opened anew by the browser.
    if (mine.readyState === EventSource.CLOSED && source === mine) window.setTimeout(() => source === mine && open(), 3000)
  })
}

function close(): void {
  source?.close()
  source = null
}

/** Have the stream for all tabs, until it is taken away or nobody listens here any more. */
function lead(steal: boolean): void {
  if (asking && !steal) return
  asking = true
  const held = () =>
    new Promise<void>((release) => {
      asking = false
      if (!begun) return release()
      leading = true
      stopLeading = () => {
        leading = false
        close()
        release()
      }
      tell({ kind: 'who' })
      open()
    })
  navigator.locks.request(NAME, steal ? { steal: true } : {}, held).catch(() => {
    leading = asking = false // another tab has taken it
    close()
    if (begun) lead(false)
  })
}
let stopLeading = (): void => undefined

function receive(told: Told): void {
  if (told.kind === 'event') {
    saw(true)
    deliver(told.name, told.data)
  } else if (told.kind === 'alive') saw(!told.away)
  else if (told.kind === 'who') {
    others.clear()
    tell({ kind: 'watch', tab, ids: [...own.keys()] })
  } else {
    if (told.ids.length) others.set(told.tab, told.ids)
    else others.delete(told.tab)
    if (leading) open()
  }
}

/** Tabs share one stream where the browser can tell who has it; elsewhere one that is looked at has its own. */
const shares = typeof navigator !== 'undefined' && 'locks' in navigator && typeof BroadcastChannel !== 'undefined'

function look(): void {
  if (!listeners.size) return
  if (!shares) {
    if (document.hidden) close()
    else open()
    return
  }
  if (leading) tell({ kind: 'alive', away: away.value })
  else if (!document.hidden && Date.now() - heardAt > SILENT) {
    heardAt = Date.now()
    lead(true)
  }
}

function begin(): void {
  begun = true
  heardAt = Date.now()
  if (shares) {
    channel = new BroadcastChannel(NAME)
    channel.onmessage = (event: MessageEvent<Told>) => receive(event.data)
    lead(false)
  } else open()
  timer = window.setInterval(look, ALIVE)
  document.addEventListener('visibilitychange', look)
}

function end(): void {
  begun = false
  window.clearInterval(timer)
  document.removeEventListener('visibilitychange', look)
  if (leading) stopLeading()
  else close()
  tell({ kind: 'watch', tab, ids: [] })
  channel?.close()
  channel = null
}

function watch(id: string, by: number): void {
  const many = (own.get(id) ?? 0) + by
  if (many > 0) own.set(id, many)
  else own.delete(id)
  if (leading || !shares) open()
  else tell({ kind: 'watch', tab, ids: [...own.keys()] })
}

/** Hear of what changes while the component lives: over one stream for all tabs of the browser. `run` is one of which is also told what
 * its models write. */
export function useLive(heard: Heard, run?: string): void {
  const first = !listeners.size
  listeners.add(heard)
  if (run) own.set(run, (own.get(run) ?? 0) + 1)
  if (first) {
    window.clearTimeout(ending)
    if (!begun) begin()
  }
  if (run) watch(run, 0)
  onScopeDispose(() => {
    listeners.delete(heard)
    if (run) watch(run, -1)
    // From page to page there is a moment in which nobody listens.
    if (!listeners.size) ending = window.setTimeout(end, 1000)
  })
}

/** Do something soon, twice a second at most, and not while nobody looks at the page: then once when somebody does. */
export function useSoon(work: () => unknown, pause: number | (() => number) = 500): () => void {
  let soon: number | undefined
  let last = 0
  let due = false
  function now(): void {
    soon = undefined
    due = document.hidden
    if (due) return
    last = performance.now()
    work()
  }
  const back = () => due && !document.hidden && now()
  document.addEventListener('visibilitychange', back)
  onScopeDispose(() => {
    window.clearTimeout(soon)
    document.removeEventListener('visibilitychange', back)
  })
  return () => {
    const apart = typeof pause === 'number' ? pause : pause()
    soon ??= window.setTimeout(now, Math.max(0, last + apart - performance.now()))
  }
}
