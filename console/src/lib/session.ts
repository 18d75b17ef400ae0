import { ref } from 'vue'
import { api, data, expired, Problem, type Schemas } from '../api/client'
import { currency } from './format'

/** The release of the service. */
export const release = ref('')

const MARK = 'signed-in'
/** Who is signed in: taken for who was here last until that is known, so that a page is begun meanwhile; undefined where nobody was,
 * null when nobody is. */
export const who = ref<string | null | undefined>(localStorage.getItem(MARK) ?? undefined)

/** Who is signed in, and how the service is set. */
export function known(session: Schemas['SessionOut']): void {
  who.value = session.name
  localStorage.setItem(MARK, session.name)
  currency.value = session.currency
  release.value = session.release
}

/** Nobody is signed in. */
export function nobody(): void {
  localStorage.removeItem(MARK)
  who.value = null
}

let touched = false
for (const event of ['keydown', 'pointerdown']) window.addEventListener(event, () => (touched = true), { once: true, capture: true })

/** The session is over: who has begun to work with the page signs in again over it, and what was written stays. */
export function over(): void {
  if (who.value && touched) expired.value = true
  else nobody()
}

export async function askWho(): Promise<void> {
  try {
    known(await data(api.GET('/api/v1/session')))
  } catch (problem) {
    if (problem instanceof Problem && problem.status === 401) over()
    if (!(problem instanceof Problem) || problem.status !== 401) throw problem
  }
}

export async function signOut(): Promise<void> {
  await data(api.DELETE('/api/v1/session'))
  nobody()
}
