import { stringify } from 'yaml'
import { CannotEdit, type Change } from './changes'
import { stepsOf } from './paste'
import { type Entry, isMap, isSeq, type Path, type Source } from './source'
import { behindDash, setValue } from './values'
import { dedented, indented, inFlow } from './write'

/** A step as text of its own: its lines, with the comments above them, the dash in the first column. */
export function stepText(source: Source, path: Path): string {
  const entry = wanted(source, path)
  if (entry.flow) return stringify([source.value(path)], { lineWidth: 0 })
  const text = dedented(source.text.slice(entry.from, entry.to), entry.indent)
  return text.endsWith('\n') ? text : `${text}\n`
}

/** Several steps of one list, as text. */
export function stepsText(source: Source, paths: readonly Path[]): string {
  return sorted(paths)
    .map((path) => stepText(source, path))
    .join('')
}

/** Put steps, as `stepText` gives them, before the one that is the `index`-th of a list. */
export function insertSteps(source: Source, list: Path, index: number, text: string): Change[] {
  const node = source.node(list)
  if (!isSeq(node) || !node.items.length) {
    const value = parsed(text)
    return setValue(source, list, value)
  }
  const before = source.entry([...list, Math.min(index, node.items.length - 1)])!
  if (before.flow) {
    const given = parsed(text).map(inFlow).join(', ')
    const behind = index >= node.items.length
    return [{ from: behind ? before.to : before.from, to: behind ? before.to : before.from, insert: behind ? `, ${given}` : `${given}, ` }]
  }
  const at = index >= node.items.length ? before.to : before.from
  const open = at > 0 && source.text[at - 1] !== '\n' ? '\n' : ''
  return [{ from: at, to: at, insert: open + indented(text, before.indent) }]
}

/** Take steps of one list away, with their comments. */
export function removeSteps(source: Source, paths: readonly Path[]): Change[] {
  const [list, ...others] = new Set(paths.map((path) => path.slice(0, -1).join('.')))
  if (list === undefined || others.length) throw new CannotEdit('lines of one list are taken away together')
  const at = paths[0]!.slice(0, -1)
  const node = source.node(at)
  if (!isSeq(node)) throw new CannotEdit('there is no such step')
  if (paths.length === node.items.length) return setValue(source, at, [])
  return sorted(paths).map((path) => {
    const entry = wanted(source, path)
    if (!entry.flow) return { from: entry.from, to: entry.to, insert: '' }
    const index = path.at(-1) as number
    const next = source.entry([...at, index + 1])
    const last = paths.some((one) => one.at(-1) === index + 1) ? undefined : next
    if (last) return { from: entry.from, to: last.from, insert: '' }
    const before = source.entry([...at, index - 1])
    return { from: before ? before.to : entry.from, to: next ? next.from : entry.to, insert: '' }
  })
}

/** Move steps of one list before the `index`-th of another one, or of the same. */
export function moveSteps(source: Source, paths: readonly Path[], list: Path, index: number): Change[] {
  const inside = paths.some((path) => path.every((key, n) => String(list[n]) === String(key)))
  if (inside) throw new CannotEdit('a step cannot be moved into itself')
  const same = paths[0] && paths[0].slice(0, -1).join('.') === list.join('.')
  const held = source.node(list)
  if (same && (paths.some((path) => path.at(-1) === index) || (isSeq(held) && paths.length === held.items.length))) return []
  const text = stepsText(source, paths)
  return [...removeSteps(source, paths), ...insertSteps(source, list, index, text)]
}

/** Put steps that stand behind each other into one that is written around them: `around` is what it says beside its steps. */
export function wrapSteps(source: Source, paths: readonly Path[], around: Record<string, unknown>): Change[] {
  const order = sorted(paths)
  const entries = order.map((path) => wanted(source, path))
  const first = entries[0]!
  const last = entries.at(-1)!
  if (first.flow) throw new CannotEdit('write this list in lines first')
  if (order.some((path, n) => path.at(-1) !== (order[0]!.at(-1) as number) + n)) throw new CannotEdit('choose lines that stand behind each other')
  const inner = dedented(source.text.slice(first.from, last.to), first.indent)
  const head = indented(`-${behindDash(around, 0)}\n  steps:\n`, first.indent)
  return [{ from: first.from, to: last.to, insert: head + indented(inner, first.indent + 4) }]
}

/** The lists of steps that a step holds, in reading order, each with its place. */
export function listsOf(source: Source, path: Path): Path[] {
  const step = source.value(path) as Record<string, unknown> | undefined
  if (!step || typeof step !== 'object') return []
  const found: Path[] = []
  if (Array.isArray(step.branch)) {
    for (const [n, arm] of step.branch.entries())
      found.push([...path, 'branch', n, arm && typeof arm === 'object' && 'else' in arm ? 'else' : 'steps'])
  }
  if (isMap(source.node([...path, 'together']))) {
    for (const name of Object.keys(step.together as object)) {
      const strand = [...path, 'together', name]
      found.push(isSeq(source.node(strand)) ? strand : [...strand, 'steps'])
    }
  }
  if ('steps' in step) found.push([...path, 'steps'])
  if (step.ask && typeof step.ask === 'object') for (const key of ['tell', 'aside']) if (key in step.ask) found.push([...path, 'ask', key])
  if (Array.isArray(step.on_error)) found.push([...path, 'on_error'])
  return found
}

/** Every step, outer before inner, in reading order. */
export function everyStep(source: Source): Path[] {
  const found: Path[] = []
  const walk = (list: Path): void => {
    const node = source.node(list)
    if (!isSeq(node)) return
    for (const index of node.items.keys()) {
      found.push([...list, index])
      for (const inner of listsOf(source, [...list, index])) walk(inner)
    }
  }
  walk(['steps'])
  walk(['always'])
  return found
}

/** Where a step goes that is moved into the one above it: the end of that one's last list; undefined when it holds none. */
export function inward(source: Source, path: Path): { list: Path; index: number } | undefined {
  const index = path.at(-1) as number
  if (index === 0) return undefined
  const list = listsOf(source, [...path.slice(0, -1), index - 1]).at(-1)
  if (!list) return undefined
  const node = source.node(list)
  return { list, index: isSeq(node) ? node.items.length : 0 }
}

/** Where a step goes that is moved out of the one that holds it: right behind that one. */
export function outward(path: Path): { list: Path; index: number } | undefined {
  for (let length = path.length - 2; length >= 1; length--) {
    const holder = path.slice(0, length)
    const index = holder.at(-1)
    const list = holder.at(-2)
    if (
      typeof index === 'number' &&
      (list === 'steps' ||
        list === 'always' ||
        list === 'else' ||
        list === 'on_error' ||
        list === 'tell' ||
        list === 'aside' ||
        holder.at(-3) === 'together')
    ) {
      return { list: holder.slice(0, -1), index: index + 1 }
    }
  }
  return undefined
}

function wanted(source: Source, path: Path): Entry {
  const entry = source.entry(path)
  if (!entry) throw new CannotEdit('there is no such step')
  return entry
}

function parsed(text: string): unknown[] {
  const value = stepsOf(text)
  if (!value) throw new CannotEdit('these are no steps')
  return value
}

function sorted(paths: readonly Path[]): Path[] {
  return [...paths].sort((a, b) => (a.at(-1) as number) - (b.at(-1) as number))
}
