import { expect, test } from 'vitest'
import { Source } from '../src/edit/source'
import { asText, offers } from '../src/workflow/catalogue'
import { lines } from '../src/workflow/lines'

/** Every kind of step that a line can be made. */
const KINDS = offers([], [], 'desk').map((one) => ({ key: one.key, step: one.make(null) }))

test.each(KINDS)('a line of the kind $key is known as what it is', ({ key, step }) => {
  const source = Source.read(`oak: 1\nworkflow: desk\nsteps:\n${asText(step)}`)!
  const [line] = lines(source)
  expect(line!.kind).toBe(key)
  expect(line!.sentence).not.toContain('undefined')
})
