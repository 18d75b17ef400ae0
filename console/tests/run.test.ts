import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { money } from '../src/lib/format'
import { isWritten, tableOf } from '../src/lib/reading'
import { duration, moment, passing } from '../src/lib/times'
import { changes, pairs } from '../src/run/compare'
import type { Run } from '../src/api/client'
import { asked, mayFit } from '../src/run/runs'
import { type Brief, chosenPath, isAround, type Line, type Loop, rows } from '../src/run/timeline'

const line = (trace: string, kind = 'set', path = trace, depth = 0): Line => ({
  number: '1',
  depth,
  step: trace,
  kind,
  sentence: trace,
  path,
  trace,
  note: '',
})
const span = (path: string, more: Partial<Brief> = {}): Brief => ({
  path,
  line: path.replaceAll(/\[\d+\]/g, '[]'),
  kind: 'step',
  state: 'succeeded',
  started: '2031-04-01T06:00:00Z',
  ended: '2031-04-01T06:00:01Z',
  attempts: [],
  tried: 0,
  error: null,
  way: null,
  until: null,
  note: '',
  tokens: 0,
  money: 0,
  unpriced: 0,
  given: '',
  gave: '',
  ...more,
})
const loop = (path: string, chosen: number): Loop => ({ path, kind: 'each', all: 9, ended: 9, failed: 0, chosen })
const view = (script: Line[], spans: Brief[], loops: Loop[] = []) => ({ script, spans, loops, run: {} }) as unknown as Parameters<typeof pairs>[0]

describe('the script as it went', () => {
  it('shows of each list the chosen item, lists in lists with it', () => {
    const loops = new Map([loop('huts', 3), loop('huts[3].nights', 1)].map((one) => [one.path, one]))
    expect(chosenPath('huts[].nights[].bunk', loops)).toBe('huts[3].nights[1].bunk')
    const shown = rows([line('huts', 'each'), line('huts[].a')], [span('huts'), span('huts[3].a')], [loop('huts', 3)], 0, 1)
    expect(shown.map((row) => [row.loop?.chosen, row.span?.path])).toEqual([
      [3, 'huts'],
      [undefined, 'huts[3].a'],
    ])
  })
  it('leaves what was not taken faint', () => {
    const lines = [
      line('b', 'branch', 's.0'),
      line('b#0', 'arm', 's.0.branch.0'),
      line('b.x', 'set', 's.0.branch.0.steps.0'),
      line('b#1', 'arm', 's.0.branch.1'),
      line('b.y', 'set', 's.0.branch.1.steps.0'),
    ]
    const shown = rows(lines, [span('b', { way: 1 }), span('b.y')], [], 0, 1)
    expect(shown.map((row) => row.taken)).toEqual([true, false, false, true, true])
  })
  it('hatches what waits, and dots the pause before another attempt', () => {
    const failed = {
      number: 1,
      state: 'failed',
      started: '2031-04-01T06:00:00Z',
      ended: '2031-04-01T06:00:01Z',
      error: { kind: 'busy', message: 'later' },
      again_at: null,
      note: '',
    }
    const again = { ...failed, number: 2, state: 'succeeded', started: '2031-04-01T06:00:03Z', ended: '2031-04-01T06:00:04Z', error: null }
    const [asks, calls] = rows(
      [line('q', 'ask'), line('c', 'do')],
      [span('q', { state: 'waiting', ended: null }), span('c', { attempts: [failed, again], tried: 2 })],
      [],
      Date.parse('2031-04-01T06:00:00Z'),
      Date.parse('2031-04-01T06:00:04Z'),
    )
    expect(asks!.bars.map((bar) => bar.kind)).toEqual(['wait'])
    expect(calls!.bars.map((bar) => [bar.kind, bar.from, bar.to])).toEqual([
      ['failed', 0, 0.25],
      ['gap', 0.25, 0.75],
      ['work', 0.75, 1],
    ])
  })
})

describe('two runs beside each other', () => {
  it('differ in nothing from themselves', () => {
    fc.assert(
      fc.property(fc.jsonValue(), (value) => {
        expect(changes(value, structuredClone(value))).toEqual([])
      }),
    )
  })
  it('differ where one value is another, and nowhere else', () => {
    fc.assert(
      fc.property(fc.dictionary(fc.stringMatching(/^[a-z]{1,5}$/), fc.integer(), { minKeys: 1 }), (value) => {
        const key = Object.keys(value)[0]!
        expect(changes(value, { ...value, [key]: 'other' })).toEqual([{ path: key, before: value[key], after: 'other' }])
      }),
    )
  })
  it('find at most so many places, however deep a value goes', () => {
    let [one, other]: unknown[] = [1, 2]
    for (let depth = 0; depth < 1000; depth++) [one, other] = [{ a: one }, { a: other }]
    expect(changes(one, other)).toHaveLength(1)
    expect(
      changes(
        Array.from({ length: 999 }, () => 1),
        Array.from({ length: 999 }, () => 2),
      ),
    ).toHaveLength(200)
  })
  it('are told line by line, with lines that only one has', () => {
    const a = view([line('x'), line('y')], [span('x', { gave: '1' }), span('y')])
    const b = view([line('x'), line('new'), line('y')], [span('x', { gave: '2' }), span('new'), span('y')])
    expect(pairs(a, b).map((pair) => [pair.line.trace, pair.differs])).toEqual([
      ['x', ['gave']],
      ['new', ['taken']],
      ['y', []],
    ])
  })
})

describe('what is read', () => {
  it('is a table when it is a list of the same plain fields', () => {
    expect(tableOf([{ hut: 'a', n: 1 }, { hut: 'b' }])).toEqual({
      columns: ['hut', 'n'],
      rows: [
        ['a', 1],
        ['b', undefined],
      ],
      all: 2,
    })
    for (const other of [[], [1, 2], [{ a: {} }, { a: {} }], { a: 1 }, [{ a: 1 }, null], 'text']) expect(tableOf(other)).toBeNull()
    fc.assert(fc.property(fc.jsonValue(), (value) => void tableOf(value)))
  })
  it('is laid out when it is written to be', () => {
    expect(isWritten('# Conditions\n\n- the path is open')).toBe(true)
    for (const plain of ['a - b', 'The path is open.\nIt snows.', 5, null]) expect(isWritten(plain)).toBe(false)
  })
  it('has money with no more digits than help', () => {
    expect([0, 12.345, 0.0179, 0.00284, 0.0000424, null].map((one) => money(one))).toEqual(['0', '12.35', '0.018', '0.0028', '0.000042', '–'])
    expect(money(0.5, 2)).toBe('0.50 + 2 unknown')
  })
  it('has times as they are read in passing', () => {
    const now = new Date(2031, 3, 1, 12, 0).getTime()
    const at = (minutes: number) => new Date(now - minutes * 60_000).toISOString()
    expect([passing(at(0), now), passing(at(4), now), passing(at(-20), now)]).toEqual(['just now', '4 min ago', 'in 20 min'])
    expect(passing(at(180), now)).toBe('09:00')
    expect(passing(at(60 * 24 * 3), now)).toMatch(/29|Mar/)
    expect(moment(null)).toBe('–')
    expect([0.05, 4.25, 190, 7500, 300_000].map(duration)).toEqual(['50 ms', '4.3 s', '3 min 10 s', '2 h 5 min', '3 d 11 h'])
  })
})

describe('which runs are asked for', () => {
  it('takes a new run for one of them where it may be', () => {
    const run = { kind: 'run', workflow: 'larder', subject: 'jo', state: 'failed' } as Run
    expect([{}, { workflow: 'larder' }, { state: 'failed', text: 'any' }, { state: 'unmended' }].every((filter) => mayFit(run, filter))).toBe(true)
    expect([{ workflow: 'other' }, { subject: 'bo' }, { state: 'open' }].some((filter) => mayFit(run, filter))).toBe(false)
    expect(mayFit({ ...run, kind: 'part' } as Run, {})).toBe(false)
  })
  it('follows the filter, and forgets what is no moment', () => {
    expect(asked({ state: 'unmended', since: '24' }, Date.parse('2031-04-02T06:00:00Z'))).toMatchObject({
      state: ['failed'],
      mended: false,
      since: '2031-04-01T06:00:00.000Z',
    })
    expect(asked({ from: 'nonsense', until: '', since: '-3' })).toMatchObject({ since: undefined, until: undefined })
    expect(asked({ state: 'open' }).state).toEqual(['queued', 'running', 'waiting'])
    expect(asked({ state: 'held' })).toMatchObject({ held: true, state: undefined })
  })
})

it.each([
  ['m', 'm[298].x', true],
  ['other', 'm[298].x', true],
  ['m[298].y', 'm[298].n[3].x', true],
  ['m[298]', 'm[298].x', true],
  ['m[298].agent/2', 'm[298].x', true],
  ['m[29].y', 'm[298].x', false],
  ['m[4]', 'm[298].x', false],
  ['k[0].z', 'm[298].x', false],
  ['m[298].n[4].x', 'm[298].n[3].x', false],
])('%s beside %s: %s', (place, inner, is) => {
  expect(isAround(place, inner)).toBe(is)
})
