import fc from 'fast-check'
import { describe, expect, test } from 'vitest'
import { isMap, isScalar, visit } from 'yaml'
import { Outline } from '../src/edit/outline'
import { type Path, Source } from '../src/edit/source'
import { complete, type Help, hover } from '../src/workflow/complete'
import { DEMO, documents } from './documents'

const STEP = { step: { type: 'string', description: 'The name later steps refer to.' } }
const HELP: Help = {
  schema: {
    type: 'object',
    properties: {
      oak: { const: 1 },
      title: { type: 'string', description: 'What it is called.' },
      limits: { $ref: '#/$defs/Limits' },
      steps: { type: 'array', items: { oneOf: [{ $ref: '#/$defs/Do' }, { $ref: '#/$defs/Set' }, { $ref: '#/$defs/Each' }] } },
    },
    $defs: {
      Limits: { type: 'object', properties: { money: { type: 'number' }, per_subject: { enum: ['queue', 'drop'] } } },
      Do: {
        type: 'object',
        required: ['step', 'do'],
        properties: { ...STEP, do: { type: 'string' }, with: { type: 'object' }, unknown: { enum: ['ask', 'repeat'] } },
      },
      Set: { type: 'object', required: ['step', 'set'], properties: { ...STEP, set: { type: 'object', additionalProperties: {} } } },
      Each: {
        type: 'object',
        required: ['step', 'each'],
        properties: { ...STEP, each: {}, as: { type: 'string' }, steps: { type: 'array', items: { $ref: '#/$defs/Set' } } },
      },
    },
    'x-filters': { lower: 'All letters small.', join: 'As one text.' },
  },
  actions: [
    {
      name: 'model.answer',
      title: 'Ask a model',
      input: {
        type: 'object',
        required: ['model'],
        properties: { model: { type: 'string' }, prompt: { type: 'string', description: 'What it is asked.' } },
      },
    },
  ],
  names: { model: ['careful', 'quick'] },
  known: { input: { guest: { name: 'Bo Hale' } }, results: { found: { rows: 3 } }, shapes: {} },
}
const HEAD = 'oak: 1\nworkflow: w\nsteps:\n  - step: found\n    set: {rows: 3}\n'
/** What is offered where `|` stands. */
function offered(text: string): string[] {
  const at = text.indexOf('¦')
  const plain = text.replace('¦', '')
  const source = Source.read(plain) ?? Source.read(HEAD)
  const found = complete(plain, at, source, HELP)
  const typed = found ? plain.slice(found.from, at).toLowerCase() : ''
  return (found?.options ?? []).map((one) => one.label).filter((one) => one.toLowerCase().startsWith(typed))
}

describe('where a place of a text is', () => {
  /** Every key that stands on a line of its own, with the path of its mapping. */
  function keysIn(source: Source): { path: Path; at: number; name: string }[] {
    const found: { path: Path; at: number; name: string }[] = []
    const walk = (path: Path): void => {
      const node = source.node(path)
      const value = source.value(path)
      if (isMap(node) && !node.flow)
        for (const one of node.items) if (isScalar(one.key)) found.push({ path, at: one.key.range![0], name: String(one.key.value) })
      if (value && typeof value === 'object') for (const key of Array.isArray(value) ? value.keys() : Object.keys(value)) walk([...path, key])
    }
    walk([])
    return found
  }
  function agrees(text: string): void {
    const source = Source.read(text)
    if (!source) return
    for (const { path, at, name } of keysIn(source)) {
      const place = new Outline(text, at + 1).place
      expect({ ...place, path: place.path.join('.') }, `${name} in ${text}`).toMatchObject({ path: path.join('.'), kind: 'key' })
    }
  }
  test('it is what the reader of the whole text says, in every workflow of the demo', () => Object.values(DEMO).forEach(agrees))
  test('behind a text that stands in a list of lists', () =>
    agrees('steps:\n  - step: one\n    set:\n      hut:\n        - - |\n            two\n            lines\n          - hut: false\n'))
  test('and in any document', () => fc.assert(fc.property(documents, agrees), { numRuns: 20 }))
  test('any text and any offset have a place', () => {
    const bits = fc.array(fc.constantFrom('a', ': ', '- ', '\n', '  ', '|', '>', '"', "'", '{', '}', '[', ']', ',', '#', '${', '-', '¦'), {
      maxLength: 40,
    })
    fc.assert(
      fc.property(bits, fc.nat(60), (some, n) => {
        const text = some.join('')
        const at = Math.min(n, text.length)
        const place = new Outline(text, at).place
        expect(place.from).toBeLessThanOrEqual(at)
        expect(() => complete(text, at, null, HELP)).not.toThrow()
        expect(() => hover(text, at, null, HELP)).not.toThrow()
      }),
    )
  })
  test('a comment and an anchor are no keys', () => {
    expect([...new Outline('# a: 1\nb: 2\n').of([]).keys()]).toEqual(['b'])
    visit(Source.read('a: 1')!.tree, () => undefined)
  })
})

describe('what may be written', () => {
  test('keys of the document, without those that stand', () => {
    expect(offered('oak: 1\n¦')).toEqual(['title', 'limits', 'steps'])
    expect(offered('oak: 1\nti¦')).toEqual(['title'])
  })
  test('keys of a step by its kind', () => {
    expect(offered(`${HEAD}  - step: a\n    do: model.answer\n    ¦`)).toEqual(['with', 'unknown'])
    expect(offered(`${HEAD}  - ¦`)).toEqual(['step', 'do', 'with', 'unknown', 'set', 'each', 'as', 'steps'])
    expect(offered('steps:\n- step: a\n  each: []\n  steps:\n  - ¦')).toEqual(['step', 'set'])
  })
  test('actions, and the fields of one', () => {
    expect(offered(`${HEAD}  - step: a\n    do: mod¦`)).toEqual(['model.answer'])
    expect(offered(`${HEAD}  - step: a\n    do: model.answer\n    with:\n      ¦`)).toEqual(['model', 'prompt'])
    expect(offered(`${HEAD}  - step: a\n    do: model.answer\n    with: {pr¦`)).toEqual(['prompt'])
  })
  test('names and choices', () => {
    expect(offered(`${HEAD}  - step: a\n    do: model.answer\n    with: {model: ¦`)).toEqual(['careful', 'quick'])
    expect(offered(`${HEAD}  - step: a\n    do: model.answer\n    with:\n      model: qu¦`)).toEqual(['quick'])
    expect(offered('limits:\n  per_subject: ¦')).toEqual(['queue', 'drop'])
  })
  test('what is known in an expression, and filters behind a bar', () => {
    expect(offered(`${HEAD}  - step: a\n    set:\n      x: "\${ inp¦ }"`)).toEqual(['input', 'input.guest', 'input.guest.name'])
    expect(offered(`${HEAD}  - step: a\n    set:\n      x: |\n        Dear \${ input.guest.n¦`)).toEqual(['input.guest.name'])
    expect(offered(`${HEAD}  - step: a\n    set:\n      x: "\${ found.r¦ }"`)).toEqual(['found.rows'])
    expect(offered(`${HEAD}  - step: a\n    set:\n      x: "\${ input.guest | lo¦`)).toEqual(['lower'])
  })
  test('nothing within a text, a quoted text or a comment', () => {
    expect(offered(`${HEAD}  - step: a\n    set:\n      x: |\n        model¦`)).toEqual([])
    expect(offered(`${HEAD}  - step: a\n    set:\n      x: "\${ 'inp¦`)).toEqual([])
    expect(offered('oak: 1\n# ti¦')).toEqual([])
  })
})

describe('what is told of a word', () => {
  const told = (text: string) => {
    const plain = text.replace('¦', '')
    return hover(plain, text.indexOf('¦'), Source.read(plain), HELP)
  }
  test('a key, an action, a filter, a name', () => {
    expect(told('ti¦tle: x')).toMatchObject({ title: 'title', about: 'What it is called.' })
    expect(told(`${HEAD}  - step: a\n    do: model.ans¦wer\n`)).toMatchObject({ title: 'Ask a model' })
    expect(told(`${HEAD}  - step: a\n    do: model.answer\n    with:\n      pro¦mpt: hello\n`)).toMatchObject({ about: 'What it is asked.' })
    expect(told(`${HEAD}  - step: a\n    set:\n      x: "\${ input.guest | low¦er }"`)).toMatchObject({ about: 'All letters small.' })
    expect(told(`${HEAD}  - step: a\n    set:\n      x: "\${ input.guest.na¦me }"`)).toMatchObject({
      about: 'Bo Hale',
      title: 'input.guest.name, from what it is given',
    })
    expect(told('wor¦d')).toBeNull()
  })
})
