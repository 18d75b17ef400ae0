import { CannotEdit, type Change } from './changes'
import { usesOf } from './scope'
import { type Path, type Source } from './source'
import { behindDash } from './values'
import { indented } from './write'

/** How the words begin of a sketch that only stands where something has to. */
const BEGUN = 'what is done'

/** Write a sketch as a step: what it was said to do becomes the note, and its name stays where others use it. Throws `CannotEdit`. */
export function writeSketch(source: Source, path: Path, step: Record<string, unknown>): Change[] {
  const entry = source.entry(path)
  const { step: name, todo: words, note } = source.value(path) as Record<string, unknown>
  if (!entry || entry.flow) throw new CannotEdit('write this list in lines first')
  const told = note ?? (typeof words === 'string' && !words.startsWith(BEGUN) ? words : undefined)
  const { step: own, ...rest } = step
  const made = { step: usesOf(source, path).length ? name : own, ...(told === undefined ? {} : { note: told }), ...rest }
  return [{ from: entry.line, to: source.nextLine(source.end(entry.node)), insert: indented(`-${behindDash(made, 0)}\n`, entry.indent) }]
}
