import { describe, expect, test } from 'vitest'
import { parse } from 'yaml'
import { applied } from '../src/edit/changes'
import { expression } from '../src/edit/expressions'
import { forEach, loopsAround } from '../src/edit/loops'
import { writeSketch } from '../src/edit/sketch'
import { type Path, Source } from '../src/edit/source'
import { setValue } from '../src/edit/values'
import { parts, said } from '../src/workflow/data'

const TEXT = `oak: 1
workflow: answers
steps:
  - step: find
    do: table.find
    with: {table: questions}
  # what they ask
  - step: answer
    do: agent
    with:
      model: careful
      prompt: Be short.  # always
  - step: sketched
    todo: look up the guest
result: \${ sketched }
`
const source = Source.read(TEXT)!
const STEP: Path = ['steps', 1]

function looped(from: Source, path: Path): Source {
  const changes = forEach(from, path, ['find', 'rows'], (as) => setValue(from, [...path, 'with', 'prompt'], expression([as, 'question'])))
  return Source.read(applied(from.text, changes))!
}

describe('a column that is taken', () => {
  test('wraps the line, which is done for each item', () => {
    const made = looped(source, STEP)
    expect(made.value(STEP)).toEqual({
      step: 'each_row',
      each: '${ find.rows }',
      as: 'row',
      steps: [{ step: 'answer', do: 'agent', with: { model: 'careful', prompt: '${ row.question }' } }],
    })
    expect(made.text).toContain('# what they ask')
    expect(loopsAround(made, [...STEP, 'steps', 0])).toEqual([{ path: STEP, list: ['find', 'rows'], as: 'row' }])
  })

  test('wraps no line that is done for each of them already', () => {
    const once = looped(source, STEP)
    const inner: Path = [...STEP, 'steps', 0]
    const twice = looped(once, inner)
    expect(twice.data).toEqual(once.data)
  })

  test('is offered with what the first item has, and with what is known of the shape', () => {
    const known = { input: {}, results: { find: { rows: [{ guest: 'Ada Fenn' }] } }, shapes: {} }
    const [column] = parts(source, STEP, known).filter((one) => one.each)
    expect(column).toMatchObject({ path: ['find', 'rows', 'guest'], each: ['find', 'rows'], value: 'Ada Fenn' })
    expect(said(column!)).toBe('guest, for each of rows, from find')
    const shapes = { find: { properties: { rows: { type: 'array', items: { properties: { question: {} } } } } } }
    expect(parts(source, STEP, { input: {}, results: {}, shapes }).filter((one) => one.each)).toHaveLength(1)
  })
})

describe('a sketch that is written', () => {
  const SKETCH: Path = ['steps', 2]

  test('keeps its words as a note, and its name where that is used', () => {
    const made = parse(applied(TEXT, writeSketch(source, SKETCH, { step: 'find_2', do: 'table.find', with: { table: '' } })))
    expect(made.steps[2]).toEqual({ step: 'sketched', note: 'look up the guest', do: 'table.find', with: { table: '' } })
  })

  test('leaves nothing of words that only stood there', () => {
    const text = TEXT.replace('look up the guest', 'what is done then').replace('${ sketched }', 'x')
    const made = parse(applied(text, writeSketch(Source.read(text)!, SKETCH, { step: 'found', do: 'table.find' })))
    expect(made.steps[2]).toEqual({ step: 'found', do: 'table.find' })
  })
})
