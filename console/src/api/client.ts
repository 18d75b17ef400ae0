import createClient from 'openapi-fetch'
import { ref } from 'vue'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Run = Schemas['RunOut']
export type Span = Schemas['SpanOut']
export type Line = Schemas['LineOut']
export type Finding = Schemas['FindingOut']

/** What the service refuses with (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly fix: string,
    readonly findings: Finding[] = [],
  ) {
    super(title)
  }
}

/** Whether a session that was there is over: who writes something signs in again, and goes on. */
export const expired = ref(false)

export const api = createClient<paths>({ baseUrl: '/', headers: { Accept: 'application/json' } })

/** The data of a call, or its problem thrown. */
export async function data<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result
  try {
    result = await call
  } catch {
    throw new Problem(0, 'The service does not answer', '', 'Is it running? This page tries again by itself.')
  }
  if (result.response.ok) return result.data as T
  if (result.response.status === 401) expired.value = true
  const error = (result.error ?? {}) as Partial<Problem>
  throw new Problem(
    result.response.status,
    error.title ?? `The service answered ${result.response.status}`,
    error.detail ?? '',
    error.fix ?? '',
    error.findings,
  )
}
