import { expression, expressions } from '../edit/expressions'
import { Outline, type Place } from '../edit/outline'
import type { Path, Source } from '../edit/source'
import { brief, type Known, parts } from './data'
import { PICKED, type Schema, shownAs } from './fields'

/** What the document side knows of the language, of what there is, and of the present sample. */
export interface Help {
  schema: Schema
  actions: { name: string; title: string; input: Record<string, unknown> }[]
  /** Names of models, credentials, tables, servers and workflows. */
  names: Record<string, string[]>
  known: Known
}

export interface Option {
  label: string
  /** What is put there instead of the label. */
  apply?: string
  detail?: string
  info?: string
}
export interface Completion {
  from: number
  options: Option[]
}
export interface Hover {
  from: number
  to: number
  title: string
  about: string
}

/** A schema, and the one that holds what it refers to. */
interface Shaped {
  schema: Schema
  root: Schema
}

/** What may stand at an offset of a text: keys, values, or names and filters of an expression. Null where nothing is known. */
export function complete(text: string, at: number, source: Source | null, help: Help): Completion | null {
  const outline = new Outline(text, at)
  const place = outline.place
  const inside = expressionAt(text, at, place)
  if (inside !== null) return ofExpression(inside, at, place, source, help)
  if (place.kind === 'text') return null
  const shapes = shapesAt(place.path, outline, help)
  const keys = place.kind === 'key' ? keysOf(shapes, outline.of(place.path), place.typed) : []
  const options = keys.length ? keys : valuesOf(place.path, shapes, help)
  return options.length ? { from: place.from, options } : null
}

/** What is known of what stands at an offset: a key's meaning, an action, or what a name is in the present sample. */
export function hover(text: string, at: number, source: Source | null, help: Help): Hover | null {
  const [from, to] = wordAt(text, at)
  if (from === to) return null
  const outline = new Outline(text, to)
  const place = outline.place
  const word = text.slice(from, to)
  if (expressionAt(text, to, place) !== null) {
    const filter = /\|\s*$/.test(text.slice(0, from)) ? filtersOf(help)[word] : undefined
    if (filter) return { from, to, title: word, about: filter }
    const path = /[\w.[\]']*$/.exec(text.slice(0, to))![0]
    const part = source ? parts(source, place.path, help.known).find((one) => named(one.path) === path) : undefined
    return part ? { from, to, title: `${path}, from ${part.from}`, about: said(part.value) } : null
  }
  const action = help.actions.find((one) => one.name === place.typed.trim() || one.name === word)
  if (action) return { from, to, title: action.title, about: action.name }
  if (place.kind !== 'key') return null
  const found = shapesAt(place.path, outline, help).flatMap(({ schema }) => schema.properties?.[word]?.description ?? [])[0]
  return found ? { from, to, title: word, about: found } : null
}

/** What is written of an expression before an offset; null outside of one. */
function expressionAt(text: string, at: number, place: Place): string | null {
  const begin = place.kind === 'text' ? text.lastIndexOf('\n', at - 1) + 1 : place.from
  const before = text.slice(begin, at)
  const last = expressions(before).at(-1)
  return last && last.to === before.length ? before.slice(last.from) : null
}

function ofExpression(inside: string, at: number, place: Place, source: Source | null, help: Help): Completion | null {
  const filter = /\|\s*(\w*)$/.exec(inside)
  if (filter) {
    const options = Object.entries(filtersOf(help)).map(([label, info]) => ({ label, info }))
    return { from: at - filter[1]!.length, options }
  }
  if (!source || /(["'])[^"']*$/.test(inside.replace(/(["'])(?:(?!\1).)*\1/g, ''))) return null
  const word = /[A-Za-z_][\w.[\]']*$/.exec(inside)?.[0] ?? ''
  const options = parts(source, place.path, help.known).map((part) => ({
    label: named(part.path),
    detail: part.value === undefined ? '' : said(part.value),
    info: `from ${part.from}`,
  }))
  return { from: at - word.length, options }
}

function keysOf(shapes: Shaped[], present: Map<string, string>, typed: string): Option[] {
  const found = new Map<string, Option>()
  for (const { schema } of shapes)
    for (const [name, one] of Object.entries(schema.properties ?? {}))
      if ((!present.has(name) || name === typed) && !found.has(name))
        found.set(name, {
          label: name,
          apply: `${name}: `,
          detail: schema.required?.includes(name) ? 'needed' : '',
          info: one.description ?? '',
        })
  return [...found.values()]
}

function valuesOf(path: Path, shapes: Shaped[], help: Help): Option[] {
  const key = String(path.at(-1) ?? '')
  if (key === 'do') return help.actions.map((one) => ({ label: one.name, info: one.title }))
  const kind = PICKED[key]
  if (kind && help.names[kind]?.length) return help.names[kind].map((label) => ({ label }))
  const given = shapes.flatMap(({ schema }) => [
    ...(schema.enum ?? []),
    ...('const' in schema ? [schema.const] : []),
    ...(schema.type === 'boolean' ? [true, false] : []),
    ...(Array.isArray(schema.examples) ? schema.examples : []),
  ])
  return [...new Set(given.filter((one) => typeof one !== 'object').map(shownAs))].map((label) => ({ label }))
}

/** The shapes that a place may have; what stands there already decides between them. */
function shapesAt(path: Path, outline: Outline, help: Help): Shaped[] {
  let here = narrowed(variants({ schema: help.schema, root: help.schema }), [], outline)
  for (const [n, key] of path.entries()) {
    const at = path.slice(0, n + 1)
    const action = key === 'with' ? outline.of(path.slice(0, n)).get('do') : undefined
    const input = action && help.actions.find((one) => one.name === action)?.input
    const next = input ? [{ schema: input as Schema, root: input as Schema }] : here.flatMap((one) => below(one, key))
    here = narrowed(
      next.flatMap((one) => variants(one)),
      at,
      outline,
    )
  }
  return here
}

function below({ schema, root }: Shaped, key: string | number): Shaped[] {
  const rest = typeof schema.additionalProperties === 'object' ? schema.additionalProperties : undefined
  const found = typeof key === 'number' ? schema.items : schema.properties && Object.hasOwn(schema.properties, key) ? schema.properties[key] : rest
  return found ? [{ schema: found, root }] : []
}

/** The ways that a schema leaves open, references followed. */
function variants({ schema, root }: Shaped, depth = 0): Shaped[] {
  if (depth > 10) return []
  const into = (one: Schema) => variants({ schema: one, root }, depth + 1)
  if (schema.$ref?.startsWith('#/$defs/')) return into(root.$defs?.[schema.$ref.slice(8)] ?? {})
  if (schema.allOf?.length) return schema.allOf.flatMap(into)
  const open = schema.anyOf ?? (schema.properties ? undefined : schema.oneOf)
  return open ? open.flatMap(into) : [{ schema, root }]
}

function narrowed(all: Shaped[], path: Path, outline: Outline): Shaped[] {
  const keys = [...outline.of(path).keys()].filter((key) => all.some(({ schema }) => schema.properties && Object.hasOwn(schema.properties, key)))
  const some = all.filter(({ schema }) => keys.every((key) => schema.properties && Object.hasOwn(schema.properties, key)))
  return some.length ? some : all
}

function filtersOf(help: Help): Record<string, string> {
  return (help.schema['x-filters'] ?? {}) as Record<string, string>
}

function named(path: readonly string[]): string {
  return expression(path).slice(3, -2)
}

function said(value: unknown): string {
  return value === undefined ? 'not known with this sample' : brief(value)
}

function wordAt(text: string, at: number): [number, number] {
  let from = at
  while (from > 0 && /[\w-]/.test(text[from - 1]!)) from--
  let to = at
  while (to < text.length && /[\w-]/.test(text[to]!)) to++
  return [from, to]
}
