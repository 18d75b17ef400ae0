import fc from 'fast-check'
import { describe, expect, test } from 'vitest'
import { guess, jsonPath, leaves, messageOf, readsOf, sendOf, within } from '../src/workflow/example'

const SEEN = {
  object: 'line',
  entry: [{ time: 7, messages: [{ id: 'm1', from: { id: 'g-1', name: 'Ada Fenn' }, chat: 4711, text: { body: 'Is soup served?' } }] }],
}

describe('a service that was seen', () => {
  test('its messages are found by what was said', () => {
    const all = leaves(SEEN)
    const words = guess('text', all)!
    expect(words.value).toBe('Is soup served?')
    const message = messageOf(words)
    expect(jsonPath(message, true)).toBe('$.entry[0].messages[*]')
    const inside = within(all, message)
    expect(inside.map((one) => jsonPath(one.keys))).toEqual(['$.id', '$.from.id', '$.from.name', '$.chat', '$.text.body'])
    expect(readsOf(message, { text: '$.text.body', chat: jsonPath(guess('chat', inside)!.keys), name: '' })).toEqual({
      messages: '$.entry[0].messages[*]',
      text: '$.text.body',
      chat: '$.from.id',
    })
  })
  test('a request is sent with what is said', () => {
    const fields = { method: 'POST', url: 'https://messages.example/chats/4711', json: { to: '4711', parts: [{ text: 'hello' }] } }
    const places = { text: '$.json.parts[0].text', chat: '$.json.to' }
    expect(sendOf(fields, places, '4711')).toEqual({ ...fields, json: { to: '${ chat }', parts: [{ text: '${ text }' }] } })
    expect(sendOf(fields, { ...places, chat: '' }, '4711')).toMatchObject({ url: 'https://messages.example/chats/${ chat }' })
  })
  test('of any body there are places, and odd names are quoted', () => {
    fc.assert(
      fc.property(fc.json(), (text) => {
        for (const one of leaves(JSON.parse(text))) {
          const path = jsonPath(one.keys)
          expect(path.startsWith('$')).toBe(true)
          expect(within([one], messageOf(one))).toHaveLength(1)
        }
      }),
      { numRuns: 200 },
    )
    expect(jsonPath(["it's", 'a b', 0])).toBe("$['it\\'s']['a b'][0]")
  })
})
