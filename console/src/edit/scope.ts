import { CannotEdit, type Change } from './changes'
import { names, type Name } from './expressions'
import { isScalar, isSeq, nameOf, type Path, type Source } from './source'
import { everyStep, listsOf } from './steps'
import { inFlow } from './write'
import type { Node } from 'yaml'

/** What every step may use. */
export const ALWAYS = ['input', 'settings', 'event', 'run', 'now']
/** What of an agent document is no field of the agent. */
export const AROUND = new Set(['oak', 'agent', 'title', 'note', 'labels', 'input', 'settings'])
const STEP_NAME = /^[a-z][a-z0-9_]*$/
const RESERVED = new Set([...ALWAYS, 'conversation', 'last', 'error', 'outcome', 'arrived', 'true', 'false', 'none'])

/** Whether runs of a document belong to conversations: then `conversation` is there too. */
export function talks(source: Source): boolean {
  const triggers = source.value(['triggers'])
  return Array.isArray(triggers) && triggers.some((one) => typeof one === 'object' && one !== null && 'conversation' in one)
}

/** A place of the document, and what may be used in it; `node` where a text stands that holds expressions. */
interface Place {
  path: Path
  node?: Node
  scope: ReadonlyMap<string, Path | null>
}

/** A name that is used where it is not known. */
export interface Loose {
  path: Path
  name: string
}

/** The names that may be used at a place, each with the place of the step that gives it (of a loop's own name, of its `as`); null for
 * what is always there. */
export function scopeAt(source: Source, path: Path): ReadonlyMap<string, Path | null> {
  const known = SCOPES.get(source) ?? scopes(source)
  for (let length = path.length; length >= 0; length--) {
    const scope = known.get(nameOf(path.slice(0, length)))
    if (scope) return scope
  }
  return new Map()
}

type Scopes = Map<string, ReadonlyMap<string, Path | null>>
/** The scopes of every place of a text, which is gone through once. */
const SCOPES = new WeakMap<Source, Scopes>()
function scopes(source: Source): Scopes {
  const found: Scopes = new Map()
  let of: ReadonlyMap<string, Path | null> | undefined
  let copy: ReadonlyMap<string, Path | null> = new Map()
  walk(source, ({ path, scope }) => {
    // A scope only grows while it is gone through: as long as it has not, one copy serves.
    if (scope !== of || copy.size !== scope.size) copy = new Map(scope)
    of = scope
    const key = nameOf(path)
    if (!found.has(key)) found.set(key, copy)
  })
  SCOPES.set(source, found)
  return found
}

/** A name that an expression uses: where its text stands in the document, and what gives it (null for what is always there,
 * undefined where nothing does). */
export interface Reference {
  /** Of the text that holds the expression. */
  path: Path
  name: Name
  /** Where the name begins in the document. */
  at: number
  from: Path | null | undefined
}

/** Every name that is used, in reading order. */
export function references(source: Source): Reference[] {
  const found: Reference[] = []
  walk(source, ({ path, node, scope }) => {
    if (!node) return
    const begin = node.range![0]
    for (const name of names(source.text.slice(begin, node.range![1])))
      found.push({ path, name, at: begin + name.at, from: scope.get(name.path[0]!) })
  })
  return found
}

/** The uses of what a step gives, or of the name of a loop's item (`path` is then that of its `as`). */
export function usesOf(source: Source, path: Path): Reference[] {
  return references(source).filter((one) => same(one.from, path))
}

/** Names that are used where nothing gives them. */
export function loose(source: Source): Loose[] {
  return references(source)
    .filter((one) => one.from === undefined)
    .map((one) => ({ path: one.path, name: one.name.path[0]! }))
}

/** What an edit would leave without a source: names that are known before it and not behind it. */
export function broken(before: Source, after: Source): string[] {
  const had = new Set(loose(before).map((one) => one.name))
  return [...new Set(loose(after).map((one) => one.name))].filter((name) => !had.has(name))
}

/** Give a step another name; everything that uses it follows. Throws `CannotEdit`. */
export function renameStep(source: Source, path: Path, name: string): Change[] {
  if (!STEP_NAME.test(name)) throw new CannotEdit('a name has small letters, digits and _, and begins with a letter')
  if (RESERVED.has(name)) throw new CannotEdit(`${name} means something else here`)
  const node = source.node([...path, 'step'])
  if (!isScalar(node)) throw new CannotEdit('there is no such step')
  if (String(node.value) === name) return []
  const taken = everyStep(source).some((one) => String(source.value([...one, 'step'])) === name) || usedAs(source, name)
  if (taken) throw new CannotEdit(`the name ${name} is taken`)
  const old = String(node.value)
  const changes: Change[] = [{ from: node.range![0], to: source.end(node), insert: inFlow(name) }]
  for (const { at } of usesOf(source, path)) changes.push({ from: at, to: at + old.length, insert: name })
  return changes
}

function usedAs(source: Source, name: string): boolean {
  return everyStep(source).some((one) => source.value([...one, 'as']) === name)
}

/** A name that no step has, made of a word. */
export function freeName(source: Source | null, word: string): string {
  const base =
    word
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, '_')
      .replace(/^[^a-z]+|_+$/g, '')
      .slice(0, 30) || 'step'
  const taken = new Set([
    ...RESERVED,
    ...(source ? everyStep(source).flatMap((one) => [String(source.value([...one, 'step'])), String(source.value([...one, 'as']))]) : []),
  ])
  for (let n = 1; ; n++) {
    const name = n === 1 ? base : `${base}_${n}`
    if (!taken.has(name)) return name
  }
}

function same(a: Path | null | undefined, b: Path): boolean {
  return !!a && a.length === b.length && a.every((key, n) => key === b[n])
}

type See = (place: Place) => void

/** Go through every step, and every text in which expressions may stand, with what may be used there. */
function walk(source: Source, see: See): void {
  const start = new Map<string, Path | null>([...ALWAYS, ...(talks(source) ? ['conversation'] : [])].map((name) => [name, null]))
  see({ path: [], scope: start })
  if (typeof source.data.agent === 'string') {
    // An agent document is its fields; it has no steps.
    for (const key of Object.keys(source.data)) if (!AROUND.has(key)) texts(source, [key], start, see)
    return
  }
  texts(source, ['triggers'], start, see)
  texts(source, ['subject'], start, see)
  const behind = list(source, ['steps'], start, see)
  see({ path: ['result'], scope: behind })
  texts(source, ['result'], behind, see)
  list(source, ['always'], new Map([...behind, ['outcome', null]]), see)
}

function list(source: Source, at: Path, outer: ReadonlyMap<string, Path | null>, see: See): Map<string, Path | null> {
  const scope = new Map(outer)
  const node = source.node(at)
  if (!isSeq(node)) return scope
  for (const index of node.items.keys()) {
    const path = [...at, index]
    see({ path, scope })
    step(source, path, scope, see)
    const name = source.value([...path, 'step'])
    if (typeof name === 'string') scope.set(name, path)
  }
  return scope
}

function step(source: Source, path: Path, scope: ReadonlyMap<string, Path | null>, see: See): void {
  const value = (source.value(path) ?? {}) as Record<string, unknown>
  if (typeof value !== 'object' || value === null) return
  const own = new Map(scope)
  if (typeof value.as === 'string') own.set(value.as, [...path, 'as'])
  if ('repeat' in value) own.set('last', null)
  let inner: ReadonlyMap<string, Path | null> = own
  for (const at of listsOf(source, path)) {
    const failing = at[path.length] === 'on_error'
    const more = failing ? 'error' : at.at(-1) === 'aside' ? 'aside' : null
    const behind = list(source, at, more ? new Map([...own, [more, null]]) : own, see)
    if (at.length === path.length + 1 && !failing) inner = behind
    if (at.length > path.length + 1) around(source, at, scope, behind, see)
  }
  const holding = new Set(listsOf(source, path).map((at) => at[path.length]))
  for (const key of Object.keys(value))
    if (key !== 'step' && !holding.has(key) && key !== 'gives' && key !== 'repeat')
      texts(source, [...path, key], key === 'wait' ? new Map([...scope, ['arrived', null]]) : scope, see)
  for (const key of ['gives', 'repeat']) {
    see({ path: [...path, key], scope: inner })
    texts(source, [...path, key], inner, see)
  }
}

/** What stands around a list inside of a step: when it is taken, what it gives, what is asked meanwhile. */
function around(source: Source, at: Path, scope: ReadonlyMap<string, Path | null>, behind: ReadonlyMap<string, Path | null>, see: See): void {
  const holder = ['steps', 'else', 'tell', 'aside'].includes(String(at.at(-1))) ? at.slice(0, -1) : at
  const value = source.value(holder)
  if (!value || typeof value !== 'object' || Array.isArray(value)) return
  if (at.at(-1) === 'aside' && 'tell' in value) return // its other texts were seen
  see({ path: [...holder, 'gives'], scope: behind })
  for (const key of Object.keys(value))
    if (key !== at.at(-1) && key !== 'aside') texts(source, [...holder, key], key === 'gives' ? behind : scope, see)
}

function texts(source: Source, path: Path, scope: ReadonlyMap<string, Path | null>, see: See): void {
  const node = source.node(path)
  if (node === undefined) return
  if (isScalar(node)) {
    if (typeof node.value === 'string' && (node.value.includes('${') || node.value.includes('%%'))) see({ path, node, scope })
    return
  }
  const value = source.value(path)
  if (value && typeof value === 'object')
    for (const key of Array.isArray(value) ? value.keys() : Object.keys(value)) texts(source, [...path, key], scope, see)
}
