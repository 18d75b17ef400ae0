import { ref } from 'vue'
import { api, data, Problem } from '../api/client'

/** Who is signed in; undefined while that is not known, null when nobody is. */
export const who = ref<string | null | undefined>(undefined)

export async function askWho(): Promise<void> {
  try {
    who.value = (await data(api.GET('/api/v1/session'))).name
  } catch (problem) {
    who.value = problem instanceof Problem && problem.status === 401 ? null : who.value
    if (!(problem instanceof Problem) || problem.status !== 401) throw problem
  }
}

export async function signOut(): Promise<void> {
  await data(api.DELETE('/api/v1/session'))
  who.value = null
}
