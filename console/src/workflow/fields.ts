/** Forms from JSON Schema (2020-12), as far as the language and the actions use it. */

export interface Schema {
  type?: string | string[]
  title?: string
  description?: string
  properties?: Record<string, Schema>
  required?: string[]
  items?: Schema
  enum?: unknown[]
  const?: unknown
  anyOf?: Schema[]
  oneOf?: Schema[]
  allOf?: Schema[]
  $ref?: string
  $defs?: Record<string, Schema>
  default?: unknown
  additionalProperties?: boolean | Schema
  format?: string
  [key: string]: unknown
}

export type Widget =
  | 'text'
  | 'secret'
  | 'long'
  | 'code'
  | 'number'
  | 'truth'
  | 'choice'
  | 'list'
  | 'pairs'
  | 'group'
  | 'any'
  | 'model'
  | 'credential'
  | 'table'
  | 'workflow'
  | 'server'

export interface FieldShape {
  name: string
  title: string
  about: string
  required: boolean
  widget: Widget
  schema: Schema
  choices: string[]
  /** Of a list that may be a mapping too: what its values are. */
  mapped?: Schema
}

/** A mistake in a text that is written in a field, at a line from 1; 0 for the text as a whole. */
export interface Mark {
  line: number
  message: string
}

/** Fields whose value is the name of something. */
export const PICKED: Record<string, Widget> = {
  model: 'model',
  voice: 'model',
  credential: 'credential',
  signing: 'credential',
  table: 'table',
  run: 'workflow',
  server: 'server',
}
const LONG = new Set(['prompt', 'brief', 'text', 'body', 'message', 'instructions', 'note', 'summary', 'fail', 'todo'])

/** A schema with its reference followed, and what is nothing or something taken for that something. */
export function plain(schema: Schema, root: Schema): Schema {
  let found = schema
  for (let n = 0; n < 20; n++) {
    if (found.$ref?.startsWith('#/$defs/')) found = { ...root.$defs?.[found.$ref.slice(8)], ...without(found, '$ref') }
    else if (found.allOf?.length === 1) found = { ...found.allOf[0], ...without(found, 'allOf') }
    else {
      const some = (found.anyOf ?? found.oneOf)?.filter((one) => one.type !== 'null')
      if (some?.length !== 1) return found
      found = { ...some[0], ...without(without(found, 'anyOf'), 'oneOf') }
    }
  }
  return found
}

function without(schema: Schema, key: string): Schema {
  return Object.fromEntries(Object.entries(schema).filter(([name]) => name !== key))
}

/** The fields of a mapping, those first that matter first, then those that are needed. */
export function fieldsOf(schema: Schema, root: Schema, first: string[] = []): FieldShape[] {
  const needed = schema.required ?? []
  const rank = (name: string) => (first.includes(name) ? first.indexOf(name) : needed.includes(name) ? 100 : 1000)
  return Object.entries(schema.properties ?? {})
    .map(([name, given]) => shape(name, plain(given, root), root, needed.includes(name)))
    .sort((a, b) => rank(a.name) - rank(b.name))
}

function shape(name: string, schema: Schema, root: Schema, required: boolean): FieldShape {
  const title = name.replace(/_/g, ' ').replace(/^(url|json|id|csv|xml|html)\b/, (word) => word.toUpperCase())
  const choices = (schema.enum ?? []).filter((one): one is string => typeof one === 'string')
  const widget = widgetOf(name, schema, root)
  const mapped = widget === 'list' && ways(schema, root).find((one) => one.type === 'object')?.additionalProperties
  return {
    name,
    title: title[0]!.toUpperCase() + title.slice(1),
    about: (schema.description ?? '').replace(/`([^`]+)`/g, '“$1”'),
    required,
    widget,
    schema,
    choices,
    ...(mapped && typeof mapped === 'object' ? { mapped } : {}),
  }
}

/** The forms that a value may have. */
const ways = (schema: Schema, root: Schema): Schema[] =>
  (schema.anyOf ?? schema.oneOf ?? []).map((one) => plain(one, root)).filter((one) => one.type !== 'null')

export function widgetOf(name: string, schema: Schema, root: Schema): Widget {
  const type = Array.isArray(schema.type) ? schema.type.find((one) => one !== 'null') : schema.type
  if (schema.enum?.length && schema.enum.every((one) => typeof one === 'string')) return 'choice'
  if ((type === 'string' || type === undefined) && PICKED[name] && !schema.properties) return PICKED[name]
  if (type === 'string' && schema.contentMediaType === 'text/x-python') return 'code'
  if (type === 'string' && schema.format === 'multiline') return 'long'
  if (type === 'string' && schema.writeOnly) return 'secret'
  if (type === 'string') return LONG.has(name) ? 'long' : 'text'
  if (type === 'number' || type === 'integer') return 'number'
  if (type === 'boolean') return 'truth'
  if (type === 'array') return 'list'
  if (type === 'object') return schema.properties && Object.keys(schema.properties).length ? 'group' : 'pairs'
  const types = ways(schema, root).map((one) => one.type)
  if (types.length && types.every((one) => one === 'string' || one === 'number' || one === 'integer')) return LONG.has(name) ? 'long' : 'text'
  if (types.includes('array') && types.every((one) => one === 'array' || one === 'object')) return 'list'
  return LONG.has(name) ? 'long' : 'any'
}

/** A value that a text stands for in a field of any kind: a number, true or false, a list or mapping in JSON; else the text. */
export function typed(text: string): unknown {
  const given = text.trim()
  if (/^-?\d+(\.\d+)?$/.test(given) || /^(true|false|null)$/.test(given) || /^[[{]/.test(given)) {
    try {
      return JSON.parse(given)
    } catch {
      return text
    }
  }
  return text
}

/** A value as it stands in a field of any kind. */
export function shownAs(value: unknown): string {
  return value === undefined || value === null ? '' : typeof value === 'string' ? value : JSON.stringify(value)
}
