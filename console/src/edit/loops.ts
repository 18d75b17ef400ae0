import { applied, between, CannotEdit, type Change } from './changes'
import { expression, reference } from './expressions'
import { freeName } from './scope'
import { type Path, Source } from './source'
import { wrapSteps } from './steps'

/** A loop that holds a place: the path of its step, the list it goes through, and what it calls an item. */
export interface Loop {
  path: Path
  list: string[]
  as: string
}

/** The loops over lists that a place stands in, the innermost first. */
export function loopsAround(source: Source, path: Path): Loop[] {
  const found: Loop[] = []
  for (let length = path.length - 1; length > 0; length--) {
    const at = path.slice(0, length)
    const step = source.value(at) as Record<string, unknown> | undefined
    const list = typeof step?.each === 'string' ? reference(step.each) : null
    if (list && typeof step?.as === 'string') found.push({ path: at, list, as: step.as })
  }
  return found
}

/** Do a step for each item of a list, of which it takes a part: `write` puts the part in, by what an item is called. A step that is
 * done for each of them already is only written. Throws `CannotEdit`. */
export function forEach(source: Source, path: Path, list: readonly string[], write: (as: string) => Change[]): Change[] {
  const around = loopsAround(source, path).find((one) => one.list.join('.') === list.join('.'))
  if (around) return write(around.as)
  const as = freeName(source, oneOf(list.at(-1)!))
  const written = Source.read(applied(source.text, write(as)))
  if (!written) throw new CannotEdit('what would come of it could not be read')
  const changes = wrapSteps(written, [path], { step: freeName(source, `each_${as}`), each: expression(list), as })
  return between(source.text, applied(written.text, changes))
}

/** What one of several is called: a row of rows, an entry of entries. */
function oneOf(many: string): string {
  if (/[^i]ies$/.test(many)) return many.replace(/ies$/, 'y')
  return /[^s]s$/.test(many) && many.length > 2 ? many.slice(0, -1) : 'item'
}
