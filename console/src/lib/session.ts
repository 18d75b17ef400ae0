import { ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import { currency } from './format'

/** The release of the service. */
export const release = ref('')

/** Who is signed in; undefined while that is not known, null when nobody is. */
export const who = ref<string | null | undefined>(undefined)

const MARK = 'signed-in'
/** Whether somebody was signed in here when the page was left: its content is begun while it is asked who. */
export const wasIn = localStorage.getItem(MARK) !== null

/** Who is signed in, and how the service is set. */
export function known(session: Schemas['SessionOut']): void {
  who.value = session.name
  localStorage.setItem(MARK, '1')
  currency.value = session.currency
  release.value = session.release
}

export async function askWho(): Promise<void> {
  try {
    known(await data(api.GET('/api/v1/session')))
  } catch (problem) {
    who.value = problem instanceof Problem && problem.status === 401 ? null : who.value
    if (!(problem instanceof Problem) || problem.status !== 401) throw problem
  }
}

export async function signOut(): Promise<void> {
  await data(api.DELETE('/api/v1/session'))
  localStorage.removeItem(MARK)
  who.value = null
}
