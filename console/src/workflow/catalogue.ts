import type { Schemas } from '../api/client'
import { freeName } from '../edit/scope'
import type { Source } from '../edit/source'
import { behindDash } from '../edit/values'
import { PICKED } from './fields'

export type Action = Schemas['ActionOut']

/** Something that a line can be, found by what is typed. */
export interface Offer {
  key: string
  title: string
  /** What it is, in a sentence. */
  about: string
  words: string
  make: (source: Source | null) => Record<string, unknown>
}

const todo = (what: string) => [{ step: 'later', todo: what }]
const KINDS: [string, string, string, string, (name: string) => Record<string, unknown>][] = [
  ['set', 'Set values', 'computes values that later lines use', 'compute assign variable let', () => ({ set: { text: '' } })],
  [
    'branch',
    'Choose one of several ways',
    'takes the first way whose condition holds',
    'if else condition switch case route decide',
    (name) => ({
      branch: [
        { if: '${ true }', steps: todo('what is done then').map((one) => ({ ...one, step: `${name}_then` })) },
        { else: todo('what is done otherwise').map((one) => ({ ...one, step: `${name}_else` })) },
      ],
    }),
  ],
  [
    'each',
    'For each item of a list',
    'does the same for every item, some at a time',
    'loop list rows foreach map items',
    (name) => ({ each: '${ [] }', as: 'item', steps: todo('what is done for each').map((one) => ({ ...one, step: `${name}_one` })) }),
  ],
  [
    'together',
    'Do things side by side',
    'strands that do not wait for each other',
    'parallel beside concurrently at once',
    (name) => ({
      together: {
        one: { steps: [{ step: `${name}_one`, todo: 'what is done in one' }] },
        other: { steps: [{ step: `${name}_other`, todo: 'what is done in the other' }] },
      },
    }),
  ],
  [
    'repeat',
    'Repeat until something holds',
    'rounds, at most so many',
    'loop while until again retry',
    (name) => ({ repeat: { until: '${ true }', most: 5 }, steps: [{ step: `${name}_round`, todo: 'what is done in each round' }] }),
  ],
  ['wait', 'Wait', 'a while, until a moment, or for an event', 'pause sleep delay event', () => ({ wait: '5m' })],
  [
    'ask',
    'Ask a person',
    'puts a question into the tray, and goes on with the answer',
    'approve approval question human tray form',
    () => ({ ask: { text: 'Shall it be done?', choices: ['yes', 'no'] } }),
  ],
  ['reply', 'Reply to the caller', 'answers who waits for the webhook', 'response respond answer http', () => ({ reply: { status: 200, body: {} } })],
  [
    'hand_over',
    'Hand over to a person',
    'who writes in the conversation until they hand it back',
    'human colleague takeover agent tray',
    () => ({ hand_over: 'Somebody needs a person.' }),
  ],
  ['send', 'Say something', 'in the conversation of the run', 'send message talk answer chat', () => ({ send: 'Good day!' })],
  ['emit', 'Publish an event', 'tells others that something happened', 'event send notify', () => ({ emit: { type: 'something.happened' } })],
  ['stop', 'End the run here', 'with a result', 'finish return end', () => ({ stop: null })],
  ['fail', 'Fail the run', 'with a message', 'error abort throw', () => ({ fail: 'It cannot be done' })],
]

/** Everything that a line can be: actions, kinds of steps, other workflows. */
export function offers(
  actions: Action[],
  workflows: { name: string; title: string; kind: string }[],
  own: string,
  names: Record<string, string[]> = {},
): Offer[] {
  const kinds = KINDS.map(([key, title, about, words, body]) => ({
    key,
    title,
    about,
    words: `${title} ${words} ${key}`,
    make: (source: Source | null) => {
      const name = freeName(source, key === 'each' ? 'each_one' : key)
      return { step: name, ...body(name) }
    },
  }))
  const done = actions.map((action) => ({
    key: action.name,
    title: action.title,
    about: action.name,
    words: `${action.title} ${action.name} ${action.connector}`,
    make: (source: Source | null) => ({ step: freeName(source, action.name.split('.').at(-1)!), do: action.name, with: begun(action, names) }),
  }))
  const others = workflows
    .filter((one) => one.name !== own && one.kind === 'workflow')
    .map((one) => ({
      key: `run ${one.name}`,
      title: `Run ${one.name}`,
      about: one.title || 'another workflow',
      words: `run ${one.name} ${one.title} workflow`,
      make: (source: Source | null) => ({ step: freeName(source, one.name.replace(/-/g, '_')), run: one.name }),
    }))
  return [...done, ...kinds, ...others]
}

/** What a new step of an action is given: every field that it needs, empty, or what it begins with where it is written out; where there is
 * one thing alone to be named, that. */
function begun(action: Action, names: Record<string, string[]>): Record<string, unknown> {
  const input = action.input as { required?: string[]; properties?: Record<string, Begun> }
  const only = (name: string) => {
    const all = names[PICKED[name] ?? ''] ?? []
    return all.length === 1 ? all[0] : undefined
  }
  return Object.fromEntries((input.required ?? []).map((name) => [name, only(name) ?? empty(input.properties?.[name])]))
}

interface Begun {
  type?: string
  enum?: unknown[]
  written?: boolean
  examples?: unknown[]
}

function empty(schema: Begun | undefined): unknown {
  if (schema?.written && schema.examples?.length) return schema.examples[0]
  if (schema?.enum?.length) return schema.enum[0]
  return { object: {}, array: [], integer: 1, number: 0, boolean: false }[schema?.type ?? ''] ?? ''
}

/** Those that fit what is typed, the best first: every word begins one of theirs. */
export function fitting(all: Offer[], typed: string, recent: string[]): Offer[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean)
  const scored = all.flatMap((offer) => {
    const theirs = offer.words.toLowerCase().split(/[\s._-]+/)
    const title = offer.title.toLowerCase()
    let score = 0
    for (const word of words) {
      if (!theirs.some((one) => one.startsWith(word)) && !offer.words.toLowerCase().includes(word)) return []
      score += title.startsWith(word) || offer.key.startsWith(word) ? 3 : theirs.some((one) => one.startsWith(word)) ? 2 : 1
    }
    const used = recent.indexOf(offer.key)
    return [{ offer, score: score * 100 + (used < 0 ? 0 : 50 - used) }]
  })
  return scored.sort((a, b) => b.score - a.score).map((one) => one.offer)
}

/** A step as text, as it is put into a list. */
export function asText(step: Record<string, unknown>): string {
  return `-${behindDash(step, 0)}\n`
}

/** A line of plain words: to be written later. */
export function sketch(source: Source | null, words: string): Record<string, unknown> {
  return { step: freeName(source, words.split(/\s+/).slice(0, 3).join('_')), todo: words }
}
