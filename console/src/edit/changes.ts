/** A piece of a text that is replaced: `from` and `to` are offsets in the text as it was, in UTF-16 code units. */
export interface Change {
  from: number
  to: number
  insert: string
}

/** An edit that cannot be made here, with what to do instead. */
export class CannotEdit extends Error {}

/** Changes in the order of the text. Throws `CannotEdit` when two of them touch the same place. */
export function ordered(changes: readonly Change[]): Change[] {
  const sorted = [...changes].sort((a, b) => a.from - b.from || a.to - b.to)
  for (const [n, one] of sorted.entries()) {
    if (one.from > one.to || (n > 0 && sorted[n - 1]!.to > one.from)) throw new CannotEdit('two changes touch the same place')
  }
  return sorted
}

/** The text with the changes made; every byte outside of them stays as it is. */
export function applied(text: string, changes: readonly Change[]): string {
  let made = ''
  let at = 0
  for (const one of ordered(changes)) {
    made += text.slice(at, one.from) + one.insert
    at = one.to
  }
  return made + text.slice(at)
}

/** What makes one text of another, as one change: what both begin and end with stays. */
export function between(old: string, now: string): Change[] {
  if (now === old) return []
  const least = Math.min(old.length, now.length)
  let from = 0
  while (from < least && old[from] === now[from]) from++
  let end = 0
  while (end < least - from && old[old.length - 1 - end] === now[now.length - 1 - end]) end++
  return [{ from, to: old.length - end, insert: now.slice(from, now.length - end) }]
}

/** The changes that lead back from the text that `changes` make of `text`. */
export function inverse(text: string, changes: readonly Change[]): Change[] {
  let moved = 0
  return ordered(changes).map((one) => {
    const from = one.from + moved
    moved += one.insert.length - (one.to - one.from)
    return { from, to: from + one.insert.length, insert: text.slice(one.from, one.to) }
  })
}
