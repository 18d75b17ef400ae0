import { applied, CannotEdit, type Change } from './changes'
import { type Reference, references, scopeAt } from './scope'
import { type Path, Source } from './source'
import { stepsText } from './steps'
import { indented, inFlow } from './write'

/** Lines that became a document of their own, and the changes that leave a line in their place that runs it. */
export interface Extracted {
  text: string
  changes: Change[]
}
/** Names that a document always has, and that mean the same in another one. */
const EVERYWHERE = new Set(['run', 'now'])

/** Make steps that stand behind each other a workflow of their own: what they use becomes its input, what later lines use its
 * result, and a line that runs it is left in their place. Throws `CannotEdit`. */
export function extractSteps(source: Source, paths: readonly Path[], names: { workflow: string; step: string }): Extracted {
  const order = [...paths].sort((a, b) => (a.at(-1) as number) - (b.at(-1) as number))
  const first = order[0]
  if (!first || order.some((path, n) => path.at(-1) !== (first.at(-1) as number) + n || path.slice(0, -1).join('.') !== first.slice(0, -1).join('.')))
    throw new CannotEdit('choose lines that stand behind each other')
  const entries = order.map((path) => source.entry(path))
  if (entries.some((one) => !one || one.flow)) throw new CannotEdit('write this list in lines first')
  const all = references(source)
  const inside = (path: Path) => order.some((one) => one.every((key, n) => path[n] === key))
  const around = scopeAt(source, first)
  const taken = all.filter((one) => inside(one.path) && around.has(root(one)) && !EVERYWHERE.has(root(one)) && !(one.from && inside(one.from)))
  const given = all.filter((one) => !inside(one.path) && one.from && order.some((path) => same(path, one.from!)))
  const inputs = new Map(taken.map((one) => [inputOf(root(one)), root(one)]))
  const results = new Set(given.map(root))
  const moved = Source.read(
    applied(
      source.text,
      taken.map((one) => ({ from: one.at, to: one.at + root(one).length, insert: `input.${inputOf(root(one))}` })),
    ),
  )
  if (!moved) throw new CannotEdit('what would come of it could not be read')
  return {
    text: document(names.workflow, [...inputs.keys()], stepsText(moved, order), [...results]),
    changes: [
      { from: entries[0]!.from, to: entries.at(-1)!.to, insert: indented(line(names, inputs), entries[0]!.indent) },
      ...given.map((one) => ({ from: one.at, to: one.at, insert: `${names.step}.` })),
    ],
  }
}

function root(one: Reference): string {
  return one.name.path[0]!
}

/** What of the outer document is called in the input of the new one. */
function inputOf(name: string): string {
  return name === 'input' ? 'given' : name
}

function document(name: string, inputs: string[], steps: string, results: string[]): string {
  const shape = inputs.length
    ? `input:\n  type: object\n  required: ${inFlow(inputs)}\n  properties:\n${inputs.map((one) => `    ${one}: {}\n`).join('')}`
    : ''
  const result = results.length ? `result:\n${results.map((one) => `  ${one}: "\${ ${one} }"\n`).join('')}` : ''
  return `oak: 1\nworkflow: ${name}\n${shape}steps:\n${indented(steps, 2)}${result}`
}

function line(names: { workflow: string; step: string }, inputs: Map<string, string>): string {
  const given = [...inputs].map(([key, name]) => `    ${key}: "\${ ${name} }"\n`).join('')
  return `- step: ${names.step}\n  run: ${names.workflow}\n${given ? `  with:\n${given}` : ''}`
}

function same(a: Path, b: Path): boolean {
  return a.length === b.length && a.every((key, n) => key === b[n])
}
