import fc from 'fast-check'
import { describe, expect, test } from 'vitest'
import { parse } from 'yaml'
import { applied, CannotEdit, type Change, inverse, ordered } from '../src/edit/changes'
import { forEach } from '../src/edit/loops'
import { writeSketch } from '../src/edit/sketch'
import { pathOf, Source, type Path } from '../src/edit/source'
import { everyStep, insertSteps, inward, moveSteps, outward, removeSteps, stepText, wrapSteps } from '../src/edit/steps'
import { freeName, loose, renameStep, scopeAt, usesOf } from '../src/edit/scope'
import { removeKey, renameKey, setValue } from '../src/edit/values'
import { DEMO, documents, values } from './documents'

const RUNS = { numRuns: 60 }

/** Every byte outside of the changes is where it was. */
function untouched(before: string, after: string, changes: readonly Change[]): boolean {
  let from = 0
  let moved = 0
  for (const one of ordered(changes)) {
    if (before.slice(from, one.from) !== after.slice(from + moved, one.from + moved)) return false
    moved += one.insert.length - (one.to - one.from)
    from = one.to
  }
  return before.slice(from) === after.slice(from + moved)
}

/** An edit, or null where there is nothing to do, or it is refused with a sentence. */
function tried(make: () => Change[]): Change[] | null {
  try {
    return make()
  } catch (error) {
    if (error instanceof CannotEdit) return null
    throw error
  }
}

type Edit = (source: Source, n: number, value: unknown) => Change[]
const at = (source: Source, n: number): Path => {
  const steps = everyStep(source)
  return steps[n % steps.length]!
}
const listOf = (path: Path): Path => path.slice(0, -1)
const NEW = '# a comment of it\n- step: brand_new\n  set:\n    x: 1\n'
const EDITS: Record<string, Edit> = {
  set: (s, n, v) => setValue(s, [...at(s, n), 'note'], v),
  'set in with': (s, n, v) => setValue(s, [...at(s, n), 'with', 'json'], v),
  'set deep': (s, n, v) => setValue(s, [...at(s, n), 'retry', 'tries', 'x'], v),
  'set title': (s, _, v) => setValue(s, ['title'], v),
  remove: (s, n) => removeKey(s, [...at(s, n), ['note', 'with', 'gives', 'as', 'step'][n % 5]!]),
  'remove result': (s) => removeKey(s, ['result']),
  'rename key': (s, n) => renameKey(s, [...at(s, n), 'step'], `step${n}`),
  insert: (s, n) => insertSteps(s, listOf(at(s, n)), n % 4, NEW.replace('brand_new', `new_${n}`)),
  delete: (s, n) => removeSteps(s, [at(s, n)]),
  move: (s, n) => moveSteps(s, [at(s, n)], listOf(at(s, n + 7)), n % 5),
  inward: (s, n) => {
    const to = inward(s, at(s, n))
    return to ? moveSteps(s, [at(s, n)], to.list, to.index) : []
  },
  outward: (s, n) => {
    const to = outward(at(s, n))
    return to ? moveSteps(s, [at(s, n)], to.list, to.index) : []
  },
  wrap: (s, n) => wrapSteps(s, [at(s, n)], { step: `around_${n}`, each: '${ input.huts }', as: `one_${n}` }),
  'for each': (s, n, v) => forEach(s, at(s, n), ['input', 'huts'], (as) => setValue(s, [...at(s, n), 'with'], { [as]: v })),
  'write a sketch': (s, n, v) => writeSketch(s, at(s, n), { step: `written_${n}`, set: { x: v } }),
  rename: (s, n) => renameStep(s, at(s, n), freeName(s, `other ${n}`)),
}

describe('any sequence of edits', () => {
  test('gives a text that can be read, leaves every other byte alone, and is undone to the same bytes', () => {
    const edits = fc.array(fc.tuple(fc.constantFrom(...Object.keys(EDITS)), fc.nat(1000), values), { minLength: 1, maxLength: 8 })
    fc.assert(
      fc.property(documents, edits, (first, chosen) => {
        let text = first
        const back: Change[][] = []
        for (const [name, n, value] of chosen) {
          const source = Source.read(text)!
          if (!everyStep(source).length) break
          const changes = tried(() => EDITS[name]!(source, n, value))
          if (!changes) continue
          const made = applied(text, changes)
          expect(Source.read(made), `${name} ${n} of\n${text}\n——\n${made}`).not.toBeNull()
          expect(untouched(text, made, changes)).toBe(true)
          back.push(inverse(text, changes))
          text = made
        }
        for (const changes of back.reverse()) text = applied(text, changes)
        expect(text).toBe(first)
      }),
      RUNS,
    )
  })

  test('says what it was told to say', () => {
    fc.assert(
      fc.property(documents, fc.nat(100), values, (text, n, value) => {
        const source = Source.read(text)!
        const path = [...at(source, n), 'with', 'json']
        const changes = tried(() => setValue(source, path, value))
        fc.pre(changes !== null)
        const made = Source.read(applied(text, changes!))!
        expect(made.value(path), applied(text, changes!)).toEqual(value)
        const before = source.data
        const after = made.data
        expect(withoutWith(after)).toEqual(withoutWith(before))
      }),
      RUNS,
    )
  })

  test('a step that is moved is the same step', () => {
    fc.assert(
      fc.property(documents, fc.nat(100), fc.nat(100), fc.nat(4), (text, n, m, index) => {
        const source = Source.read(text)!
        const from = at(source, n)
        const step = source.value(from)
        const count = everyStep(source).length
        const changes = tried(() => moveSteps(source, [from], listOf(at(source, m)), index))
        fc.pre(changes !== null)
        const made = Source.read(applied(text, changes!))!
        expect(everyStep(made).length, applied(text, changes!)).toBe(count)
        expect(everyStep(made).map((path) => made.value(path))).toContainEqual(step)
      }),
      RUNS,
    )
  })

  test('a step that is cut and pasted where it was gives the same document', () => {
    fc.assert(
      fc.property(documents, fc.nat(100), (text, n) => {
        const source = Source.read(text)!
        const path = at(source, n)
        const cut = stepText(source, path)
        const without = Source.read(applied(text, removeSteps(source, [path])))!
        const again = applied(without.text, insertSteps(without, listOf(path), path.at(-1) as number, cut))
        expect(parse(again), again).toEqual(source.data)
      }),
      RUNS,
    )
  })
})

function withoutWith(value: unknown): unknown {
  return JSON.parse(JSON.stringify(value, (key, one: unknown) => (key === 'with' ? undefined : one)))
}

describe('the workflows of the demo', () => {
  test.each(Object.keys(DEMO))('%s is read, every name is known, and every step can be renamed', (file) => {
    const text = DEMO[file]!
    const source = Source.read(text)!
    expect(source).not.toBeNull()
    expect(loose(source)).toEqual([])
    for (const path of everyStep(source)) {
      const old = String(source.value([...path, 'step']))
      const uses = usesOf(source, path).length
      const made = applied(text, renameStep(source, path, `${old}_anew`))
      const after = Source.read(made)!
      expect(loose(after)).toEqual([])
      expect(made.length - text.length).toBe(5 * (uses + 1))
      expect(applied(made, renameStep(after, path, old))).toBe(text)
    }
  })

  test.each(Object.keys(DEMO))('%s: each step moved to the end and back is the same text', (file) => {
    const text = DEMO[file]!
    const source = Source.read(text)!
    const top = everyStep(source).filter((path) => path.length === 2 && path[0] === 'steps')
    for (const path of top.slice(0, -1)) {
      const there = applied(text, moveSteps(source, [path], ['steps'], top.length))
      const after = Source.read(there)!
      const back = applied(there, moveSteps(after, [['steps', top.length - 1]], ['steps'], path[1] as number))
      expect(parse(back)).toEqual(source.data)
    }
  })
})

describe('a line', () => {
  const TEXT = `oak: 1
workflow: rounds
steps:
  # the first one
  - step: huts   # beside it
    do: table.find
    with: {table: huts}
    # at its end

  - step: each_hut
    each: \${ huts.rows }
    as: hut
    steps:
      - step: said
        set: {text: "\${ hut.name } \${ huts.count }"}
    gives: \${ said.text }
result: \${ each_hut }
`
  const source = Source.read(TEXT)!

  test('takes its comments along', () => {
    const made = applied(TEXT, removeSteps(source, [['steps', 0]]))
    expect(made).not.toContain('the first one')
    expect(made).not.toContain('at its end')
    expect(made).toContain('\n\n  - step: each_hut')
  })

  test('is moved into the loop above it, and out again', () => {
    const text = TEXT.replace('result', '  - step: last_one\n    set: {x: 1}\nresult')
    const first = Source.read(text)!
    const to = inward(first, ['steps', 2])!
    expect(to).toEqual({ list: ['steps', 1, 'steps'], index: 1 })
    const inside = applied(text, moveSteps(first, [['steps', 2]], to.list, to.index))
    expect(inside).toContain('      - step: last_one\n        set: {x: 1}\n    gives')
    const second = Source.read(inside)!
    const out = outward(pathOf('steps.1.steps.1'))!
    expect(applied(inside, moveSteps(second, [pathOf('steps.1.steps.1')], out.list, out.index))).toBe(text)
  })

  test('knows what it may use', () => {
    expect([...scopeAt(source, pathOf('steps.1.steps.0')).keys()].sort()).toEqual(['event', 'hut', 'huts', 'input', 'now', 'run', 'settings'])
    expect([...scopeAt(source, ['steps', 0]).keys()].sort()).toEqual(['event', 'input', 'now', 'run', 'settings'])
  })

  test('that others use is renamed with them, in every kind of text', () => {
    const made = applied(TEXT, renameStep(source, ['steps', 0], 'found'))
    expect(made).toContain('each: ${ found.rows }')
    expect(made).toContain('"${ hut.name } ${ found.count }"')
    expect(made).toContain('with: {table: huts}')
  })

  test.each(['input', 'said', 'hut', 'Big', '9x', '', 'a b'])('is not called %j', (name) => {
    expect(() => renameStep(source, ['steps', 0], name)).toThrow(CannotEdit)
  })

  test('is not moved into itself', () => {
    expect(() => moveSteps(source, [['steps', 1]], ['steps', 1, 'steps'], 0)).toThrow('into itself')
  })

  test('gets a new key where one would look for it', () => {
    expect(applied(TEXT, setValue(source, ['steps', 1, 'note'], 'each of them'))).toContain('  - step: each_hut\n    note: each of them\n    each:')
    expect(applied(TEXT, setValue(source, ['steps', 1, 'width'], 4))).toContain('    as: hut\n    width: 4\n    steps:')
  })

  test('of a value that stands elsewhere is not changed behind its back', () => {
    const text = 'oak: 1\nworkflow: w\nx: &a {table: huts}\nsteps:\n  - {step: a, do: table.find, with: *a}\n'
    expect(() => setValue(Source.read(text)!, ['steps', 0, 'with', 'table'], 'x')).toThrow('stands elsewhere')
  })
})
