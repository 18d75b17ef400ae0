import { isSeq, nameOf, type Path, type Source } from '../edit/source'
import { listsOf } from '../edit/steps'
import type { Row } from './rows'

/** What a line is called while the service has not said it in a sentence. */
const SAID: Record<string, (value: unknown) => string> = {
  do: (value) => `Do ${String(value)}`,
  run: (value) => `Run ${String(value)}`,
  set: () => 'Set values',
  branch: () => 'Choose the first that holds',
  each: (value) => `For each in ${String(value)}`,
  together: () => 'Side by side',
  repeat: () => 'Repeat',
  wait: (value) => `Wait ${typeof value === 'string' ? value : ''}`,
  ask: () => 'Ask a person',
  reply: () => 'Reply to the caller',
  send: (value) => `Say ${typeof value === 'string' ? value : ''}`,
  hand_over: () => 'Hand over to a person',
  emit: () => 'Publish an event',
  todo: (value) => `To do: ${String(value)}`,
  stop: () => 'End the run here',
  fail: (value) => `Fail: ${String(value)}`,
}
const letter = (n: number) => String.fromCharCode(97 + (n % 26))

/** The lines of the steps as they stand in the text, numbered as the service numbers them. */
export function lines(source: Source): Row[] {
  const found = walk(source, ['steps'], '', '', 0)
  if (isSeq(source.node(['always']))) {
    found.push(row('always', '+', 0, 'arm', 'always', 'At the end, whatever happened', 'always'))
    found.push(...walk(source, ['always'], '+', 'always.', 1))
  }
  return found
}

function row(path: string, number: string, depth: number, kind: string, step: string, sentence: string, trace: string, note = ''): Row {
  return { path, number, depth, kind, step, sentence, note, trace, own: kind !== 'arm' && kind !== 'strand' }
}

function walk(source: Source, list: Path, numbers: string, trace: string, depth: number): Row[] {
  const node = source.node(list)
  if (!isSeq(node)) return []
  return node.items.flatMap((_, index) => {
    const path = [...list, index]
    const value = source.value(path)
    if (!value || typeof value !== 'object') return []
    const step = value as Record<string, unknown>
    const kind = Object.keys(SAID).find((key) => key in step && !(key === 'wait' && 'run' in step)) ?? 'todo'
    const number = `${numbers}${index + 1}`
    const span = `${trace}${String(step.step ?? '')}`
    const own = row(nameOf(path), number, depth, kind, String(step.step ?? ''), SAID[kind]!(step[kind]), span, String(step.note ?? ''))
    return [own, ...listsOf(source, path).flatMap((at) => inner(source, at, path, own))]
  })
}

function inner(source: Source, at: Path, path: Path, own: Row): Row[] {
  const key = String(at[path.length])
  const { number, trace: span, depth, step } = own
  if (key === 'steps') return walk(source, at, `${number}.`, `${span}[].`, depth + 1)
  if (key === 'on_error') {
    return [
      row(nameOf(at), `${number}!`, depth + 1, 'arm', step, 'If that fails', `${span}!`),
      ...walk(source, at, `${number}!.`, `${span}!.`, depth + 2),
    ]
  }
  if (key === 'ask') {
    const aside = at.at(-1) === 'aside'
    const [sign, said] = aside ? ['b', 'If something else is said'] : ['a', 'Once it can be answered']
    return [
      row(nameOf(at), `${number}${sign}`, depth + 1, 'arm', step, said, `${span}#${String(at.at(-1))}`),
      ...walk(source, at, `${number}${sign}.`, `${span}.`, depth + 2),
    ]
  }
  const holder = at.slice(0, path.length + 2)
  if (key === 'branch') {
    const n = Number(at[path.length + 1])
    const arm = (source.value(holder) ?? {}) as Record<string, unknown>
    const said = 'else' in arm ? 'Otherwise' : `If ${String(arm.if ?? '')}`
    return [
      row(nameOf(holder), `${number}${letter(n)}`, depth + 1, 'arm', step, said, `${span}#${n}`),
      ...walk(source, at, `${number}${letter(n)}.`, `${span}.`, depth + 2),
    ]
  }
  const name = String(at[path.length + 1])
  const n = Object.keys((source.value([...path, 'together']) ?? {}) as object).indexOf(name)
  return [
    row(nameOf(holder), `${number}${letter(n)}`, depth + 1, 'strand', step, `Beside: ${name}`, `${span}.${name}`),
    ...walk(source, at, `${number}${letter(n)}.`, `${span}.${name}.`, depth + 2),
  ]
}
