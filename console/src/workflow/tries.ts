import { computed, ref } from 'vue'
import { api, data, type Schemas, type Span } from '../api/client'
import type { Draft } from './draft'

/** Tries of a draft with a sample: what each line gave, kept for those behind it. */
export function useTries(draft: Draft) {
  const results = ref<Record<string, unknown>>({})
  const spans = ref<Record<string, Span>>({})
  const busy = ref(false)
  const problem = ref<Error | null>(null)
  const last = ref<Schemas['TriedOut'] | null>(null)

  /** Try a line, and with `onwards` what stands behind it, with an input or the kept event of a name. */
  async function run(step: string, onwards: boolean, input: unknown, sample: string): Promise<void> {
    busy.value = true
    problem.value = null
    try {
      const body = { text: draft.text.value, step, onwards, steps: results.value, sample, input: sample ? null : input }
      const tried = await data(api.POST('/api/v1/workflows/try', { body }))
      last.value = tried
      for (const span of tried.spans) {
        spans.value = { ...spans.value, [span.line]: span }
        const name = span.path.split('.').at(-1)!
        if (span.state === 'succeeded' && /^[a-z][a-z0-9_]*$/.test(name)) results.value = { ...results.value, [name]: span.output }
      }
    } catch (error) {
      problem.value = error as Error
    } finally {
      busy.value = false
    }
  }
  /** Say what a line gives; undefined for nothing. */
  function put(name: string, value: unknown): void {
    results.value = Object.fromEntries([
      ...Object.entries(results.value).filter(([one]) => one !== name),
      ...(value === undefined ? [] : [[name, value]]),
    ])
  }
  const states = computed(() => new Map(Object.entries(spans.value).map(([line, span]) => [line, span.state])))
  return { results, spans, busy, problem, last, run, put, states }
}
export type Tries = ReturnType<typeof useTries>
