import { describe, expect, test } from 'vitest'
import { isCurl } from '../src/edit/curl'
import { expression, names, reference } from '../src/edit/expressions'
import { stepsOf } from '../src/edit/paste'
import { addressOf, filesIn, size } from '../src/lib/files'

describe('names in a text', () => {
  test.each([
    ['${ a.b.c }', [['a', 'b', 'c']]],
    [
      'Dear ${ guest.name }, row ${ rows[0].id }',
      [
        ['guest', 'name'],
        ['rows', '0', 'id'],
      ],
    ],
    ["${ kind.label == 'refund' and not done }", [['kind', 'label'], ['done']]],
    ["${ x | default('y.z') | upper }", [['x']]],
    ['${ a is defined }', [['a']]],
    ['${ a is not none }', [['a']]],
    ['${ round(number=total) }', [['round'], ['total']]],
    ["${ {'a': b}['a'] }", [['b']]],
    ['\\${ a } is plain', []],
    ['%% for hut in huts\n${ hut.name }\n%% endfor', [['huts']]],
    ['%% if a.b\nx\n%% endif', [['a', 'b']]],
    ['${ a', [['a']]],
    ['nothing', []],
    ['${ 1.5 + n }', [['n']]],
  ])('%s', (text, found) => {
    expect(names(text).map((name) => name.path)).toEqual(found)
  })

  test('a text that is one reference, and back', () => {
    expect(reference('${ guest.rows[0].email }')).toEqual(['guest', 'rows', '0', 'email'])
    expect(expression(['guest', 'rows', '0', 'odd key'])).toBe("${ guest.rows[0]['odd key'] }")
    expect(reference('x ${ a }')).toBeNull()
    expect(reference('${ a + b }')).toBeNull()
  })
})

test('a curl command is known by how it begins', () => {
  expect(isCurl('  $ curl x')).toBe(true)
  expect(isCurl('curly')).toBe(false)
})

describe('what is pasted', () => {
  test.each([
    ['- step: a\n  set: {}\n', 1],
    ['steps:\n  - step: a\n  - step: b\n', 2],
    ['step: a\nset: {}\n', 1],
    ['just words', null],
    ['- 1\n- 2', null],
    ['[', null],
    ['', null],
  ])('%j', (text, count) => {
    expect(stepsOf(text)?.length ?? null).toBe(count)
  })
})

describe('files in a value', () => {
  const id = '01a21b13-e076-7463-aeca-f57094ac5dd5'
  const file = { file: id, name: 'hut & tarn.png', type: 'image/png', size: 48_211 }
  test('are found wherever they stand, each once', () => {
    expect(filesIn({ a: [file, { b: file }], c: { file: 'door', size: 1 }, d: { file: id } })).toEqual([file])
    expect(filesIn('no value of files')).toEqual([])
  })
  test('have an address and a size', () => {
    expect(addressOf(file)).toBe(`/api/v1/files/${id}/content?name=hut+%26+tarn.png&type=image%2Fpng`)
    expect([812, 48_211, 12_000_000].map(size)).toEqual(['812 bytes', '48 kB', '12 MB'])
  })
  test('are not looked for without end', () => {
    let deep: unknown = file
    for (let n = 0; n < 50; n++) deep = { deep }
    expect(filesIn(deep)).toEqual([])
    expect(filesIn(Array.from({ length: 500 }, (_, n) => ({ ...file, name: `${n}` })))).toHaveLength(50)
  })
})
