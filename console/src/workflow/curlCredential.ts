import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, data } from '../api/client'
import { freeName } from '../edit/scope'
import type { Source } from '../edit/source'
import { insertSteps } from '../edit/steps'
import { asText } from './catalogue'
import type { Draft } from './draft'
import { behindRow, type Row } from './rows'

/** A step made of a curl command; its secret is stored as a credential by the service, and never stands in the document. */
async function stepOfCurl(text: string, source: Source | null): Promise<Record<string, unknown>> {
  const made = await data(api.POST('/api/v1/curl', { body: { text } }))
  return { step: freeName(source, made.name), do: made.do, with: made.fields }
}

/** Puts a pasted curl command behind the chosen line, as a step; `told` says where its secret went. */
export function usePastedCurl(draft: Draft, row: () => Row | undefined) {
  const client = useQueryClient()
  const told = ref('')
  const problem = ref<Error | null>(null)
  async function curl(text: string): Promise<void> {
    problem.value = null
    try {
      const step = await stepOfCurl(text, draft.source.value)
      await client.invalidateQueries({ queryKey: ['credentials'] })
      draft.edit((source) => {
        const to = behindRow(row(), source)
        return insertSteps(source, to.list, to.index, asText(step))
      })
      const { credential } = step.with as { credential?: string }
      told.value = credential ? `Its secret is kept as the credential ${credential}.` : ''
    } catch (error) {
      problem.value = error as Error
    }
  }
  return { told, problem, curl }
}
