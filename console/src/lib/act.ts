import { useQueryClient } from '@tanstack/vue-query'
import { ref, type Ref } from 'vue'

/** Something done to what the query `key` lists: which one is busy, what went wrong, and the list asked for again. */
export function useAct(key: string): {
  act: (name: string, what: () => Promise<unknown>) => Promise<void>
  busy: Ref<string>
  problem: Ref<Error | null>
} {
  const client = useQueryClient()
  const busy = ref('')
  const problem = ref<Error | null>(null)
  async function act(name: string, what: () => Promise<unknown>): Promise<void> {
    busy.value = name
    problem.value = null
    try {
      await what()
      await client.invalidateQueries({ queryKey: [key] })
    } catch (error) {
      problem.value = error as Error
    } finally {
      busy.value = ''
    }
  }
  return { act, busy, problem }
}
