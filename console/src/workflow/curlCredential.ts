import { api, data } from '../api/client'
import { type CurlStep, curlStep } from '../edit/curl'
import { freeName } from '../edit/scope'
import type { Source } from '../edit/source'

/** A step made of a curl command; its secret is stored as a credential first, and never stands in the document. */
export async function stepOfCurl(text: string, source: Source | null, taken: string[]): Promise<Record<string, unknown>> {
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
