import fc from 'fast-check'
import { readdirSync, readFileSync } from 'node:fs'
import { stringify } from 'yaml'
import { Source } from '../src/edit/source'

const FOLDER = new URL('../../demo/workflows/', import.meta.url)

/** The workflows of the demo, by file. */
export const DEMO: Record<string, string> = Object.fromEntries(
  readdirSync(FOLDER)
    .filter((file) => file.endsWith('.yaml'))
    .map((file) => [file, readFileSync(new URL(file, FOLDER), 'utf8')]),
)

const word = fc.constantFrom('hut', 'bread', 'guest', 'crates', 'row', 'note')
const scalar = fc.oneof(
  fc.integer({ min: -5, max: 5 }),
  fc.boolean(),
  fc.constantFrom(
    'plain',
    'with: colon',
    '# hash',
    "it's",
    'yes',
    '2031-01-01',
    '1_000',
    '${ input.hut }',
    'two\nlines\n',
    ' lead',
    '- dash',
    '{x}',
    '',
    '雪の小屋',
    '"q"',
    '%% for hut in input.huts',
  ),
)
const value: fc.Arbitrary<unknown> = fc.letrec((tie) => ({
  any: fc.oneof({ depthSize: 'small' }, scalar, fc.array(tie('any'), { maxLength: 3 }), fc.dictionary(word, tie('any'), { maxKeys: 3 })),
})).any

/** Plain data that may stand in a document. */
export const values = value

let count = 0
const step: fc.Arbitrary<Record<string, unknown>> = fc.letrec<{ step: Record<string, unknown>; steps: Record<string, unknown>[] }>((tie) => ({
  steps: fc.array(tie('step'), { minLength: 1, maxLength: 3 }),
  step: fc
    .oneof(
      { depthSize: 'small' },
      fc.record({ set: fc.dictionary(word, value, { minKeys: 1, maxKeys: 3 }) }),
      fc.record({ do: fc.constant('http.request'), with: fc.record({ url: fc.constant('https://office.example'), json: value }) }),
      fc.record({ each: fc.constant('${ input.huts }'), as: fc.constant('hut'), steps: tie('steps'), gives: fc.constant('${ hut }') }),
      fc.record({ branch: fc.array(fc.record({ if: fc.constant('${ input.hut }'), steps: tie('steps') }), { minLength: 1, maxLength: 2 }) }),
      fc.record({ together: fc.dictionary(word, fc.record({ steps: tie('steps') }), { minKeys: 1, maxKeys: 2 }) }),
    )
    .map((kind) => ({ step: `s${++count % 10_000}`, ...kind })),
})).step

/** How a document is written: in lines or in brackets, with comments and odd spaces. */
const style = fc.record({
  flow: fc.boolean(),
  json: fc.constantFrom(false, false, false, true),
  deep: fc.constantFrom(2, 4),
  flush: fc.boolean(),
  comments: fc.array(fc.nat(40), { maxLength: 6 }),
  crlf: fc.constantFrom(false, false, false, true),
  open: fc.boolean(),
})

/** Texts of documents, as people write them. */
/** Some that the writer of the tests' library writes, and cannot read again, are left out. */
export const documents: fc.Arbitrary<string> = fc
  .tuple(fc.array(step, { minLength: 1, maxLength: 5 }), style)
  .map(([steps, how]) => {
    const data = { oak: 1, workflow: 'made-up', input: { type: 'object' }, steps, result: '${ input.hut }' }
    if (how.json) return JSON.stringify(data, null, how.deep)
    let text = stringify(data, { lineWidth: 0, indent: how.deep, indentSeq: !how.flush, collectionStyle: how.flow ? 'any' : 'block' })
    if (how.flow) text = stringify(data, { lineWidth: 0 }).replace(/^steps:\n[\s\S]*?(?=^result)/m, `steps: ${JSON.stringify(steps)}\n`)
    const lines = text.split('\n')
    for (const [n, at] of how.comments.entries()) {
      const index = at % lines.length
      const line = lines[index]!
      if (/^\s*(- )?[a-z_]+:( \S.*)?$/.test(line) && !/[|>][-+]?$/.test(line) && !/['"#]/.test(line)) {
        if (n % 2) lines[index] = `${line}   # beside ${n}`
        else if (/^\s*- step:/.test(line)) lines.splice(index, 0, `${' '.repeat(line.search(/\S/))}# above ${n}`)
        else if (/^\s*- step:/.test(lines[index + 1] ?? '')) lines.splice(index + 1, 0, '')
      }
    }
    text = lines.join('\n')
    if (how.open) text = text.replace(/\n$/, '')
    if (how.crlf) text = text.replace(/\n/g, '\r\n')
    return text
  })
  .filter((text) => Source.read(text) !== null)
