import { CannotEdit, type Change } from './changes'
import { isAlias, isMap, isScalar, isSeq, type Path, type Source } from './source'
import { behind, inFlow, isInline } from './write'
import type { Node, YAMLMap } from 'yaml'

/** The keys of a step, and of a document, in the order in which they are read. */
const ORDER = [
  ...[
    'oak',
    'workflow',
    'agent',
    'title',
    'note',
    'labels',
    'input',
    'settings',
    'triggers',
    'subject',
    'limits',
    'model',
    'brief',
    'prompt',
    'tools',
    'memory',
  ],
  ...[
    'step',
    'trigger',
    'when',
    'once',
    'do',
    'run',
    'set',
    'each',
    'as',
    'width',
    'failed',
    'repeat',
    'wait',
    'ask',
    'reply',
    'send',
    'hand_over',
    'emit',
    'stop',
    'fail',
    'todo',
  ],
  ...['if', 'else', 'with', 'timeout', 'retry', 'unknown', 'on_error', 'branch', 'together', 'steps', 'gives', 'result', 'always'],
]

/** Write a value at a place: in the place of what stands there, or as a new key of the mapping around it, which is made where it is
 * missing. Throws `CannotEdit`. */
export function setValue(source: Source, path: Path, value: unknown): Change[] {
  for (let length = 1; length <= path.length; length++) {
    if (isAlias(source.node(path.slice(0, length))))
      throw new CannotEdit('this stands elsewhere in the document and is only named here; change it there')
  }
  const found = source.pair(path)
  if (found) return replaced(source, path, value)
  const item = source.node(path)
  if (item) return [{ from: item.range![0], to: source.end(item), insert: inItem(source, path, value) }]
  const outer = path.slice(0, -1)
  const around = source.node(outer)
  if (isMap(around)) return [added(source, outer, around, String(path.at(-1)), value)]
  if (isSeq(around) && typeof path.at(-1) === 'number') return addItem(source, outer, value)
  if (!path.length || (around && !(isScalar(around) && around.value === null))) throw new CannotEdit('nothing can be put in here')
  return setValue(source, outer, typeof path.at(-1) === 'number' ? [value] : { [path.at(-1)!]: value })
}

/** Take a key away, with the comments above it. */
export function removeKey(source: Source, path: Path): Change[] {
  const found = source.pair(path)
  if (!found) return []
  const { map, pair } = found
  const index = map.items.indexOf(pair)
  const key = pair.key.range![0]
  const end = pair.value ? source.end(pair.value) : source.text.indexOf(':', pair.key.range![1]) + 1
  if (map.items.length === 1) {
    const outer = path.slice(0, -1)
    return outer.length ? replaced(source, outer, {}) : [{ from: key, to: end, insert: '{}' }]
  }
  if (map.flow || source.inFlow(path.slice(0, -1))) {
    const next = map.items[index + 1] as typeof pair | undefined
    if (next) return [{ from: key, to: next.key.range![0], insert: '' }]
    const before = map.items[index - 1] as typeof pair
    return [{ from: before.value ? source.end(before.value) : before.key.range![1], to: end, insert: '' }]
  }
  const line = source.lineStart(key)
  if (source.text.slice(line, key).trim()) {
    const next = map.items[index + 1] as typeof pair
    return [{ from: key, to: next.key.range![0], insert: '' }] // it shares the line of a dash
  }
  return [{ from: source.commentsAbove(line, key - line), to: source.linesBelow(end, key - line), insert: '' }]
}

/** Give a key another name. */
export function renameKey(source: Source, path: Path, name: string): Change[] {
  const found = source.pair(path)
  if (!found) throw new CannotEdit('nothing of that name is here')
  if (source.pair([...path.slice(0, -1), name])) throw new CannotEdit(`there is ${name} already`)
  const { key } = found.pair
  return [{ from: key.range![0], to: source.end(key), insert: inFlow(name) }]
}

/** Put a value at the end of a list that holds no steps. */
export function addItem(source: Source, path: Path, value: unknown): Change[] {
  const list = source.node(path)
  if (!isSeq(list) || !list.items.length) return setValue(source, path, [value])
  const last = source.entry([...path, list.items.length - 1])!
  const end = source.end(last.node)
  if (last.flow) return [{ from: end, to: end, insert: `, ${inFlow(value)}` }]
  const at = source.nextLine(end)
  const open = source.text[at - 1] === '\n' ? '' : '\n'
  return [{ from: at, to: at, insert: `${open}${' '.repeat(last.indent)}-${behindDash(value, last.indent)}\n` }]
}

/** What stands behind a dash: of a mapping, its first key in the same line. */
export function behindDash(value: unknown, indent: number): string {
  if (isInline(value) || typeof value === 'string') return behind(value, indent)
  return ` ${behind(value, indent).replace(/^\n */, '')}`
}

function inItem(source: Source, path: Path, value: unknown): string {
  const item = source.entry(path)
  if (!item || item.flow) return inFlow(value)
  return behindDash(value, item.indent).slice(1)
}

function replaced(source: Source, path: Path, value: unknown): Change[] {
  const { pair } = source.pair(path)!
  const colon = source.text.indexOf(':', source.end(pair.key)) + 1
  const old = pair.value
  const empty = !old || (isScalar(old) && old.value === null && old.range![0] === old.range![1])
  if (source.inFlow(path.slice(0, -1))) {
    return [empty ? { from: colon, to: colon, insert: ` ${inFlow(value)}` } : { from: old!.range![0], to: source.end(old!), insert: inFlow(value) }]
  }
  const column = source.column(pair.key.range![0])
  const lines = typeof value === 'string' && value.includes('\n')
  const between = empty ? '' : source.text.slice(colon, old!.range![0])
  const comment = between.search(/(?<=^|\s)#/)
  if (comment >= 0)
    return besideComment(source, colon, between, comment, old!, lines || isInline(value) ? ` ${inFlow(value)}` : behind(value, column))
  const tail = empty ? '' : source.text.slice(source.end(old!), source.nextLine(source.end(old!)))
  const insert = tail.includes('#') && lines ? ` ${inFlow(value)}` : behind(value, column)
  const from = empty ? colon : behindColon(colon, between, old!)
  if (tail.includes('#') && insert.startsWith('\n')) {
    const at = source.end(old!) + tail.trimEnd().length // the comment stays beside the key, and not within a text that ends the lines
    return [
      { from, to: source.end(old!), insert: '' },
      { from: at, to: at, insert },
    ]
  }
  return [{ from, to: empty ? colon : source.end(old!), insert }]
}

/** A value is replaced that stands in the lines below a comment beside its key: one line goes before the comment, lines below it. */
function besideComment(source: Source, colon: number, between: string, comment: number, old: Node, insert: string): Change[] {
  const below = colon + between.trimEnd().length
  if (insert.startsWith('\n')) return [{ from: below, to: source.end(old), insert }]
  const at = colon + between.slice(0, comment).trimEnd().length
  return [
    { from: at, to: at, insert },
    { from: below, to: source.end(old), insert: '' },
  ]
}

/** Where a value begins that is to be replaced: right behind the colon, unless something stands between. */
function behindColon(colon: number, between: string, old: Node): number {
  return between.trim() ? old.range![0] - 1 : colon
}

function added(source: Source, path: Path, map: YAMLMap, key: string, value: unknown): Change {
  const name = inFlow(key)
  const order = ORDER.indexOf(key)
  const later = order < 0 ? undefined : map.items.find((one, n) => n > 0 && ORDER.indexOf(String(isScalar(one.key) ? one.key.value : '')) > order)
  if (map.flow || source.inFlow(path)) {
    const insert = `${name}: ${inFlow(value)}`
    if (!map.items.length) return { from: map.range![0] + 1, to: map.range![0] + 1, insert }
    const last = map.items.at(-1)!
    const end = last.value ? source.end(last.value as Node) : (last.key as Node).range![1]
    return { from: end, to: end, insert: `, ${insert}` }
  }
  const first = (map.items[0]!.key as Node).range![0]
  const column = source.column(first)
  const line = `${' '.repeat(column)}${name}:${behind(value, column)}`
  if (later) {
    const start = source.lineStart((later.key as Node).range![0])
    const at = source.commentsAbove(start, column)
    return { from: at, to: at, insert: `${line}\n` }
  }
  const last = map.items.at(-1)!
  const end = last.value ? source.end(last.value as Node) : source.text.indexOf(':', (last.key as Node).range![1]) + 1
  const at = source.nextLine(Math.max(end, (last.key as Node).range![1]))
  return { from: at, to: at, insert: source.text[at - 1] === '\n' ? `${line}\n` : `\n${line}` }
}
