import fc from 'fast-check'
import { describe, expect, test } from 'vitest'
import { applied, CannotEdit } from '../src/edit/changes'
import { extractSteps } from '../src/edit/extract'
import { loose } from '../src/edit/scope'
import { Source } from '../src/edit/source'
import { everyStep } from '../src/edit/steps'
import { DEMO, documents } from './documents'

const NAMES = { workflow: 'part', step: 'part_of_it' }
const TEXT = `oak: 1
workflow: whole
steps:
  - step: hut
    set: {name: "\${ input.hut }"}
  # what is counted
  - step: crates
    set:
      n: "\${ hut.name | length }" # of letters
  - step: rows
    each: "\${ input.rows }"
    as: row
    steps:
      - step: one
        set: {line: "\${ row } of \${ hut.name } and \${ crates.n }"}
  - step: told
    set: {text: "\${ crates.n } and \${ rows } on \${ run.id }"}
result: "\${ rows }"
`

describe('lines that become a workflow', () => {
  test('what they use is its input, what is used of them its result', () => {
    const source = Source.read(TEXT)!
    const { text, changes } = extractSteps(
      source,
      [
        ['steps', 1],
        ['steps', 2],
      ],
      NAMES,
    )
    const child = Source.read(text)!
    expect(child.data.input).toMatchObject({ required: ['hut', 'given'] })
    expect(child.value(['steps', 0, 'set', 'n'])).toBe('${ input.hut.name | length }')
    expect(child.value(['steps', 1, 'each'])).toBe('${ input.given.rows }')
    expect(child.value(['steps', 1, 'steps', 0, 'set', 'line'])).toBe('${ row } of ${ input.hut.name } and ${ crates.n }')
    expect(child.data.result).toEqual({ crates: '${ crates }', rows: '${ rows }' })
    expect(text).toContain('# of letters')
    const after = Source.read(applied(TEXT, changes))!
    expect(after.value(['steps', 1])).toEqual({ step: 'part_of_it', run: 'part', with: { hut: '${ hut }', given: '${ input }' } })
    expect(after.value(['steps', 2, 'set', 'text'])).toBe('${ part_of_it.crates.n } and ${ part_of_it.rows } on ${ run.id }')
    expect(after.data.result).toBe('${ part_of_it.rows }')
  })

  test('lines that do not stand together are refused', () => {
    const source = Source.read(TEXT)!
    const apart = [
      ['steps', 0],
      ['steps', 2],
    ]
    expect(() => extractSteps(source, apart, NAMES)).toThrow(CannotEdit)
    expect(() => extractSteps(source, [], NAMES)).toThrow(CannotEdit)
  })

  function sound(text: string, n: number, length: number): void {
    const source = Source.read(text)!
    const steps = everyStep(source)
    const first = steps[n % steps.length]!
    const list = first.slice(0, -1)
    const paths = Array.from({ length }, (_, by) => [...list, (first.at(-1) as number) + by]).filter((path) => source.entry(path))
    let made
    try {
      made = extractSteps(source, paths, NAMES)
    } catch (error) {
      if (error instanceof CannotEdit) return
      throw error
    }
    const before = loose(source).map((one) => one.name)
    const [child, after] = [Source.read(made.text), Source.read(applied(text, made.changes))]
    expect(child, made.text).not.toBeNull()
    expect(after, applied(text, made.changes)).not.toBeNull()
    for (const one of [child!, after!])
      expect(
        loose(one).filter((it) => !before.includes(it.name)),
        one.text,
      ).toEqual([])
    expect(everyStep(child!).length + everyStep(after!).length).toBe(steps.length + 1)
  }
  test('nothing is used where it is not known afterwards', () => {
    fc.assert(fc.property(documents, fc.nat(100), fc.integer({ min: 1, max: 3 }), sound), { numRuns: 25 })
  })
  test.each(Object.keys(DEMO))('of %s, every line', (file) => {
    const count = everyStep(Source.read(DEMO[file]!)!).length
    for (let n = 0; n < count; n++) for (const length of [1, 2]) sound(DEMO[file]!, n, length)
  })
})
