import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, data } from '../api/client'

/** Plays an example, and goes to its run. */
export function usePlay() {
  const router = useRouter()
  const busy = ref('')
  const problem = ref<Error | null>(null)
  async function play(name: string): Promise<void> {
    busy.value = name
    problem.value = null
    try {
      const run = await data(api.POST('/api/v1/examples/{name}/play', { params: { path: { name } } }))
      await router.push(`/runs/${run.id}`)
    } catch (error) {
      problem.value = error as Error
    } finally {
      busy.value = ''
    }
  }
  return { busy, problem, play }
}
