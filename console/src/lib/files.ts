import { api, data } from '../api/client'

/** A file that is kept by the service, as workflows pass it on. */
export interface FileValue {
  file: string
  name: string
  type: string
  size: number
}
const ID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/
const DEEPEST = 8
const MOST = 50

/** The files in a value, each once, in their order. */
export function filesIn(value: unknown): FileValue[] {
  const found = new Map<string, FileValue>()
  const look = (one: unknown, depth: number): void => {
    if (!one || typeof one !== 'object' || depth > DEEPEST || found.size >= MOST) return
    const { file, name, type, size } = one as Record<string, unknown>
    if (typeof file === 'string' && ID.test(file) && typeof size === 'number') {
      const told = { file, name: typeof name === 'string' ? name : 'file', type: typeof type === 'string' ? type : '', size }
      found.set(`${file} ${told.name}`, told)
    } else for (const inner of Object.values(one)) look(inner, depth + 1)
  }
  look(value, 0)
  return [...found.values()]
}

/** Where the bytes of a file are. */
export function addressOf({ file, name, type }: FileValue): string {
  return `/api/v1/files/${file}/content?${new URLSearchParams({ name, type }).toString()}`
}

const PICTURES = new Set(['image/gif', 'image/jpeg', 'image/png', 'image/webp'])
const SHEETS = new Set(['text/csv', 'text/tab-separated-values'])
export type Look = 'picture' | 'document' | 'sheet' | 'text' | ''

/** As what a file can be looked at; nothing for what cannot. */
export function lookOf({ type, name }: FileValue): Look {
  if (PICTURES.has(type)) return 'picture'
  if (type === 'application/pdf') return 'document'
  if (SHEETS.has(type) || /\.(csv|tsv)$/i.test(name)) return 'sheet'
  return type.startsWith('text/') || /[/+](json|xml|yaml)$|ndjson/.test(type) ? 'text' : ''
}

/** The first bytes of a file as text, and whether that is all of it. */
export async function beginning(file: FileValue, most = 200_000): Promise<{ text: string; whole: boolean }> {
  const headers: Record<string, string> = file.size > 0 ? { Range: `bytes=0-${most - 1}` } : {}
  const answer = await fetch(addressOf(file), { headers })
  if (!answer.ok) throw new Error(`The file could not be read (${answer.status}).`)
  return { text: new TextDecoder().decode(await answer.arrayBuffer()), whole: file.size <= most }
}

/** `812 bytes`, `48 kB`, `12 MB`. */
export function size(bytes: number): string {
  if (bytes < 10_000) return `${bytes} bytes`
  return bytes < 10_000_000 ? `${Math.round(bytes / 1000)} kB` : `${Math.round(bytes / 1e6)} MB`
}

/** Keep a file of this machine; its value is what workflows are given. */
export async function keep(file: File): Promise<FileValue> {
  const headers = { 'Content-Type': file.type || 'application/octet-stream' }
  return data(api.POST('/api/v1/files', { params: { query: { name: file.name } }, body: file as never, bodySerializer: () => file, headers }))
}
