import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, Problem } from '../api/client'
import { type Draft, keep } from './draft'

/** Saves a draft, and switches the workflow on and off. */
export function useStore(draft: Draft, name: () => string, fresh: () => boolean, place: () => string) {
  const client = useQueryClient()
  const router = useRouter()
  const route = useRoute()
  const said = ref('')
  const problem = ref<Error | null>(null)
  const conflict = ref(false)
  /** What is new in it, for the list of versions. */
  const remark = ref('')

  /** Save what is written as a new version; its number, or null where that could not be. */
  async function save(): Promise<number | null> {
    said.value = ''
    problem.value = null
    try {
      const headers = draft.base.value && !fresh() ? { 'If-Match': `"${draft.base.value}"` } : {}
      const done = (await data(
        api.POST('/api/v1/workflows', { body: { text: draft.text.value, remark: remark.value.trim() }, headers } as never),
      )) as {
        version: number
        workflow: string
      }
      draft.saved.value = draft.text.value
      draft.base.value = draft.version.value = done.version
      conflict.value = false
      remark.value = ''
      keep(place(), null)
      said.value = `Saved as version ${done.version}.`
      await client.invalidateQueries({ queryKey: ['workflow'] })
      if (fresh() || done.workflow !== name())
        await router.push({ path: `/workflows/${done.workflow}`, query: { line: route.query.line, side: route.query.side } })
      return done.version
    } catch (error) {
      conflict.value = error instanceof Problem && error.status === 412
      problem.value = conflict.value ? null : (error as Error)
      return null
    }
  }

  /** Switch it on, with what is written or the version that is shown; or off. */
  async function turn(on: boolean): Promise<void> {
    problem.value = null
    const number = on && draft.changed.value ? await save() : draft.version.value
    if (number === null) return
    try {
      const path = { params: { path: { name: name() } } }
      const done = on
        ? await data(api.POST('/api/v1/workflows/{name}/on', { ...path, body: { version: number } }))
        : await data(api.POST('/api/v1/workflows/{name}/off', path))
      said.value = done.on_version ? `On, with version ${done.on_version}.` : 'Off: nothing starts it by itself.'
      await client.invalidateQueries({ queryKey: ['workflow'] })
    } catch (error) {
      problem.value = error as Error
    }
  }
  return { save, turn, said, problem, conflict, remark }
}
