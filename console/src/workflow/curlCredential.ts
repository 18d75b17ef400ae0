import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, data } from '../api/client'
import { CannotEdit } from '../edit/changes'
import { type CurlStep, curlStep } from '../edit/curl'
import { freeName } from '../edit/scope'
import type { Source } from '../edit/source'
import { insertSteps } from '../edit/steps'
import { asText } from './catalogue'
import type { Draft } from './draft'
import type { Language } from './language'
import { behindRow, type Row } from './rows'

/** A step made of a curl command; its secret is stored as a credential first, and never stands in the document. */
async function stepOfCurl(text: string, source: Source | null, taken: string[]): Promise<Record<string, unknown>> {
  const made: CurlStep = curlStep(text)
  const host = new URL(String(made.with.url)).hostname
  const step = { step: freeName(source, host.split('.')[0] ?? 'request'), do: 'http.request', with: made.with }
  if (!made.secret) return step
  const { kind, value, header, user, host: place } = made.secret
  const base = host.replace(/[^A-Za-z0-9_-]+/g, '-')
  let name = base
  for (let n = 2; taken.includes(name); n++) name = `${base}-${n}`
  const http = String(made.with.url).startsWith('http:') ? 'http://' : ''
  const body = { kind, secret: value, hosts: [`${http}${place}`], ...(header ? { header } : {}), ...(user ? { user } : {}) }
  await data(api.PUT('/api/v1/credentials/{name}', { params: { path: { name }, header: {} }, body: body as never }))
  return { ...step, with: { ...made.with, credential: name } }
}

/** Puts a pasted curl command behind the chosen line, as a step; `told` says where its secret went. */
export function usePastedCurl(draft: Draft, language: Language, row: () => Row | undefined) {
  const client = useQueryClient()
  const told = ref('')
  const problem = ref<Error | null>(null)
  async function curl(text: string): Promise<void> {
    problem.value = null
    try {
      const step = await stepOfCurl(text, draft.source.value, language.known.value.credential ?? [])
      await client.invalidateQueries({ queryKey: ['credentials'] })
      draft.edit((source) => {
        const to = behindRow(row(), source)
        return insertSteps(source, to.list, to.index, asText(step))
      })
      const { credential } = step.with as { credential?: string }
      told.value = credential ? `Its secret is kept as the credential ${credential}.` : ''
    } catch (error) {
      if (error instanceof CannotEdit) told.value = error.message
      else problem.value = error as Error
    }
  }
  return { told, problem, curl }
}
