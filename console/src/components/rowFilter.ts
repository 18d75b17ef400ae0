/** Conditions on rows, as they are written in `where` of the action that finds rows, and as a reader is told them. */

export const HOWS = {
  is: 'is', not: 'is not', above: 'above', at_least: 'at least', below: 'below', at_most: 'at most', in: 'is one of',
  contains: 'contains', begins_with: 'begins with', empty: 'is empty', filled: 'is not empty',
} as const // prettier-ignore
export type How = keyof typeof HOWS
export type Kind = 'text' | 'number' | 'boolean' | 'any'
export interface Stands {
  column: string
  how: How
  value: unknown
}
const COMPARED: How[] = ['above', 'at_least', 'below', 'at_most']
export const WAYS: Record<Kind, How[]> = {
  text: ['is', 'not', 'contains', 'begins_with', 'in', ...COMPARED, 'empty', 'filled'],
  number: ['is', 'not', ...COMPARED, 'in', 'empty', 'filled'],
  boolean: ['is', 'not', 'empty', 'filled'],
  any: ['is', 'not', 'contains', 'in', ...COMPARED, 'empty', 'filled'],
}

/** A value that was typed. Throws where a column cannot have it. */
export function read(how: How, kind: Kind, typed: string): unknown {
  if (how === 'empty' || how === 'filled') return how === 'empty'
  if (how === 'contains' || how === 'begins_with') {
    if (!typed) throw new Error('write what it has')
    return typed
  }
  return how === 'in' ? typed.split(',').map((one) => value(kind, one.trim())) : value(kind, typed)
}
function value(kind: Kind, typed: string): unknown {
  if (kind === 'text') return typed
  if (kind === 'boolean') {
    if (typed !== 'true' && typed !== 'false') throw new Error('write true or false')
    return typed === 'true'
  }
  const number = Number(typed)
  if (typed.trim() && Number.isFinite(number)) return number
  if (kind === 'number') throw new Error(`${typed || 'nothing'} is no number`)
  return typed
}

/** The conditions of a `where`; none where it is none. */
export function told(where: string): Stands[] {
  return Object.entries(parsed(where)).flatMap(([column, given]): Stands[] => {
    const ways = given && typeof given === 'object' && !Array.isArray(given) ? Object.entries(given as Record<string, unknown>) : []
    if (!ways.length || !ways.every(([how]) => how in HOWS && how !== 'is' && how !== 'filled')) return [{ column, how: 'is', value: given }]
    return ways.map(([how, one]) => ({ column, how: how === 'empty' && one === false ? 'filled' : (how as How), value: one }))
  })
}

/** A `where` with one more condition; what was asked in the same way of the same column, gives way. */
export function withStands(where: string, one: Stands): string {
  const all = parsed(where)
  const before = told(where).filter((other) => other.column === one.column)
  if (one.how === 'is' || before.some((other) => other.how === 'is')) {
    all[one.column] = one.how === 'is' ? one.value : { [key(one.how)]: one.value }
  } else {
    all[one.column] = { ...(all[one.column] as Record<string, unknown> | undefined), [key(one.how)]: one.value }
  }
  return JSON.stringify(all)
}
const key = (how: How): string => (how === 'filled' ? 'empty' : how)
function parsed(where: string): Record<string, unknown> {
  try {
    const found: unknown = JSON.parse(where || '{}')
    return found && typeof found === 'object' && !Array.isArray(found) ? (found as Record<string, unknown>) : {}
  } catch {
    return {}
  }
}
