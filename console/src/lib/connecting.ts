import { api, data } from '../api/client'

/** Lets an OAuth app act for somebody: this browser goes to its provider, and comes back to `/connect/back`. */
export async function connect(name: string): Promise<void> {
  const begun = await data(api.POST('/api/v1/credentials/{name}/consent', { params: { path: { name } } }))
  window.location.assign(begun.url)
}

/** The client's secret in the file that a provider hands out, at its top or one mapping deeper. */
export function secretIn(file: string): string {
  try {
    const given = JSON.parse(file) as Record<string, unknown>
    const places = [given, ...Object.values(given).filter((one) => !!one && typeof one === 'object')] as Record<string, unknown>[]
    const found = places.map((one) => one.client_secret).find((one) => typeof one === 'string')
    return typeof found === 'string' ? found : ''
  } catch {
    return ''
  }
}
