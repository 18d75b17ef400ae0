import { computed, ref, shallowRef, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { applied, between, CannotEdit, type Change, inverse } from '../edit/changes'
import { Source } from '../edit/source'

/** A step back: the changes that undo, and when they were made. */
interface Back {
  changes: Change[]
  at: number
  typed: boolean
}
export interface Kept {
  text: string
  base: number | undefined
  at: string
}
/** Milliseconds until a text is sent to be checked, and until what is typed is read. */
const PAUSE = 300
const REST = 250
const MOST = 500

/** A document while it is written: its text, what of it can be read, what was found, and every step back. */
export function useDraft(place: () => string, first: string) {
  const text = ref(first)
  const saved = ref('')
  /** The newest version when it was begun: behind that one it is saved. */
  const base = ref<number>()
  /** The version whose text is `saved`. */
  const version = ref<number>()
  const checked = shallowRef<Schemas['CheckedOut'] | null>(null)
  const refusal = ref('')
  const problem = ref<Error | null>(null)
  const back = ref<Back[]>([])
  const forth = ref<Change[][]>([])
  const read = shallowRef({ text: first, source: Source.read(first) })
  const source = computed(() => read.value.source)
  /** What could be read last. */
  const readable = shallowRef<Source | null>(null)
  watch(source, (now) => void (now && (readable.value = now)), { immediate: true })
  const changed = computed(() => text.value !== saved.value)

  let reading: number | undefined
  /** Read the text now: whoever changes a part of it begins with what stands there. */
  function readNow(): Source | null {
    window.clearTimeout(reading)
    if (read.value.text !== text.value) read.value = { text: text.value, source: Source.read(text.value) }
    return read.value.source
  }
  function put(changes: Change[], typed: boolean): void {
    const undo = inverse(text.value, changes)
    text.value = applied(text.value, changes)
    forth.value = []
    const last = back.value.at(-1)
    const now = Date.now()
    // What is typed in one go is one step back.
    if (typed && last?.typed && now - last.at < 800 && last.changes.length === 1 && undo.length === 1 && joined(last.changes[0]!, undo[0]!))
      last.at = now
    else back.value = [...back.value.slice(-MOST), { changes: undo, at: now, typed }]
  }
  function joined(before: Change, now: Change): boolean {
    if (before.insert || now.insert || before.to !== now.from) return false
    before.to = now.to
    return true
  }

  /** Make an edit; false where it cannot be made, and `refusal` says why. */
  function edit(make: (source: Source) => Change[]): boolean {
    refusal.value = ''
    try {
      const now = readNow()
      if (!now) throw new CannotEdit('the document cannot be read as it is; correct it on its own side')
      const changes = make(now)
      const made = applied(text.value, changes)
      const then = changes.length ? Source.read(made) : now
      if (!then) throw new CannotEdit('what would come of it could not be read')
      if (changes.length) put(changes, false)
      read.value = { text: made, source: then }
      return true
    } catch (error) {
      if (!(error instanceof CannotEdit)) throw error
      refusal.value = error.message
      return false
    }
  }

  /** Take a text that was typed on the document side; it is read once the keys rest. */
  function type(now: string): void {
    const changes = between(text.value, now)
    if (!changes.length) return
    put(changes, true)
    window.clearTimeout(reading)
    reading = window.setTimeout(readNow, REST)
  }

  function undo(): void {
    const last = back.value.at(-1)
    if (!last) return
    back.value = back.value.slice(0, -1)
    forth.value = [...forth.value, inverse(text.value, last.changes)]
    text.value = applied(text.value, last.changes)
    readNow()
  }
  function redo(): void {
    const next = forth.value.at(-1)
    if (!next) return
    forth.value = forth.value.slice(0, -1)
    back.value = [...back.value, { changes: inverse(text.value, next), at: 0, typed: false }]
    text.value = applied(text.value, next)
    readNow()
  }

  /** Begin with a text that is stored as a version. */
  function open(now: string, from: { version: number; newest: number | undefined }, found: Schemas['CheckedOut'] | null): void {
    text.value = saved.value = now
    base.value = from.newest
    version.value = from.version
    checked.value = found
    back.value = []
    forth.value = []
    readNow()
  }

  let timer: number | undefined
  let asked = 0
  async function check(): Promise<void> {
    const number = ++asked
    try {
      const found = await data(api.POST('/api/v1/workflows/check', { body: { text: text.value } }))
      if (number !== asked) return
      // A mistake in one line leaves the script as it was.
      checked.value = found.script.length || !checked.value ? found : { ...checked.value, sound: false, findings: found.findings }
      problem.value = null
    } catch (error) {
      problem.value = error as Error
    }
  }
  watch(text, () => {
    window.clearTimeout(timer)
    timer = window.setTimeout(check, PAUSE)
    keep(place(), changed.value ? { text: text.value, base: base.value, at: new Date().toISOString() } : null)
  })

  return { text, saved, base, version, checked, refusal, problem, source, readable, changed, back, forth, edit, type, undo, redo, open, check }
}
export type Draft = ReturnType<typeof useDraft>

/** Keep what is written in this browser; null when it is stored. */
export function keep(place: string, given: Kept | null): void {
  try {
    if (given) window.localStorage.setItem(`oak-relay draft ${place}`, JSON.stringify(given))
    else window.localStorage.removeItem(`oak-relay draft ${place}`)
  } catch {
    // a browser that keeps nothing
  }
}

/** What was written here and not stored. */
export function kept(place: string): Kept | null {
  try {
    const found = JSON.parse(window.localStorage.getItem(`oak-relay draft ${place}`) ?? 'null') as Kept | null
    return found && typeof found.text === 'string' ? found : null
  } catch {
    return null
  }
}
