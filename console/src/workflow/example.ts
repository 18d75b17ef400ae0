/** A messaging service as it was seen: where in what it sends things stand, as JSONPath (RFC 9535), and the request that sends to it. */

export interface Leaf {
  keys: (string | number)[]
  value: string | number | boolean
}
/** What may be found in a message; the first two have to be. */
export const PARTS: [name: string, said: string][] = [
  ['text', 'The words'],
  ['chat', 'Where an answer is sent to'],
  ['id', 'Its id'],
  ['person', 'Who says it'],
  ['name', 'What they are called'],
  ['at', 'When it was said'],
  ['choice', 'The button that was pressed'],
  ['media', 'The id of a file'],
  ['media_type', 'Its media type'],
  ['media_name', 'What the file is called'],
]
const MOST = 300

/** Every plain value in it, in order; the first few hundred of many. */
export function leaves(value: unknown, keys: (string | number)[] = [], found: Leaf[] = []): Leaf[] {
  if (found.length >= MOST || keys.length > 30) return found
  if (Array.isArray(value)) value.forEach((one, n) => leaves(one, [...keys, n], found))
  else if (value && typeof value === 'object') for (const [key, one] of Object.entries(value)) leaves(one, [...keys, key], found)
  else if (value !== null && value !== undefined && value !== '') found.push({ keys, value: value as Leaf['value'] })
  return found
}

/** A place as JSONPath; with `each` its last number stands for all of them. */
export function jsonPath(keys: readonly (string | number)[], each = false): string {
  const last = each ? keys.findLastIndex((key) => typeof key === 'number') : -1
  return keys.reduce<string>((path, key, n) => {
    if (typeof key === 'number') return `${path}[${n === last ? '*' : key}]`
    return /^[A-Za-z_]\w*$/.test(key) ? `${path}.${key}` : `${path}['${key.replace(/\\/g, '\\\\').replace(/'/g, "\\'")}']`
  }, '$')
}

/** The place of the message that a leaf stands in: the innermost entry of a list around it, or the whole. */
export function messageOf(leaf: Leaf): (string | number)[] {
  const last = leaf.keys.findLastIndex((key) => typeof key === 'number')
  return leaf.keys.slice(0, last + 1)
}

/** The leaves of a message, seen from it. */
export function within(all: readonly Leaf[], message: readonly (string | number)[]): Leaf[] {
  return all
    .filter((one) => message.every((key, n) => one.keys[n] === key))
    .map((one) => ({ keys: one.keys.slice(message.length), value: one.value }))
}

/** The leaf whose last key sounds most like a part of a message. */
export function guess(part: string, all: readonly Leaf[]): Leaf | undefined {
  const sounds: Record<string, RegExp> = {
    text: /^(text|body|message|content)$/i,
    chat: /(chat|conversation|thread|room|channel|from|sender)/i,
    id: /^(id|.*message.?id|mid)$/i,
    person: /(from|sender|author|user)/i,
    name: /name$/i,
    at: /(^at$|date|time|stamp|sent)/i,
  }
  const sound = sounds[part]
  return sound && all.find((one) => sound.test(String(one.keys.at(-1))) || (part === 'chat' && sound.test(one.keys.join('.'))))
}

/** What `with` reads of a message, by what was chosen for each part (JSONPath, empty for none). */
export function readsOf(message: readonly (string | number)[], chosen: Readonly<Record<string, string>>): Record<string, string> {
  const parts = Object.entries(chosen).filter(([, path]) => path)
  return { ...(message.length ? { messages: jsonPath(message, true) } : {}), ...Object.fromEntries(parts) }
}

/** The fields of a request with what is sent in the place of what was seen. */
export function sendOf(fields: unknown, places: { chat: string; text: string }, chat: string): unknown {
  const put = (value: unknown, path: string): unknown => {
    if (path === places.text) return '${ text }'
    if (path === places.chat) return '${ chat }'
    if (Array.isArray(value)) return value.map((one, n) => put(one, `${path}[${n}]`))
    if (value && typeof value === 'object')
      return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, put(one, jsonPath([...keysOf(path), key]))]))
    return !places.chat && path === '$.url' && chat && typeof value === 'string' ? value.replaceAll(chat, '${ chat }') : value
  }
  const cache = new Map<string, (string | number)[]>(
    leaves(fields).flatMap((one) => one.keys.map((_, n) => [jsonPath(one.keys.slice(0, n + 1)), one.keys.slice(0, n + 1)])),
  )
  const keysOf = (path: string) => cache.get(path) ?? []
  return put(fields, '$')
}
