/** What the expressions of a text name. The language of expressions is Jinja's; this reads no more of it than names and where they stand. */

export interface Name {
  /** The name and the keys behind it, as in `guest.email`. */
  path: string[]
  /** Where the name stands in the text. */
  at: number
}

const WORDS = new Set([
  'and',
  'or',
  'not',
  'in',
  'is',
  'if',
  'else',
  'elif',
  'for',
  'endfor',
  'endif',
  'set',
  'endset',
  'true',
  'false',
  'none',
  'True',
  'False',
  'None',
  'loop',
])
const IDENTIFIER = /[A-Za-z_][A-Za-z0-9_]*/y

/** The parts of a text that are expressions: what stands in `${ … }`, and behind `%%`. */
export function expressions(text: string): { from: number; to: number }[] {
  const found: { from: number; to: number }[] = []
  let at = 0
  while ((at = text.indexOf('${', at)) >= 0) {
    if (text[at - 1] === '\\') {
      at += 2
      continue
    }
    const end = closing(text, at + 2)
    found.push({ from: at + 2, to: end })
    at = end
  }
  for (const line of text.matchAll(/^[ \t]*%%(.*)$/gm)) {
    const to = line.index + line[0].length
    found.push({ from: to - line[1]!.length, to })
  }
  return found.sort((a, b) => a.from - b.from)
}

function closing(text: string, from: number): number {
  let depth = 0
  let quote = ''
  for (let at = from; at < text.length; at++) {
    const sign = text[at]!
    if (quote) {
      if (sign === quote) quote = ''
    } else if (sign === '"' || sign === "'") quote = sign
    else if (sign === '{') depth++
    else if (sign === '}' && depth-- === 0) return at
  }
  return text.length
}

/** The names that the expressions of a text use, in their order; those that it makes itself (`%% for hut in …`) are left out. */
export function names(text: string): Name[] {
  const parts = expressions(text)
  const own = new Set<string>()
  for (const { from, to } of parts) {
    for (const made of text.slice(from, to).matchAll(/\bfor\s+([A-Za-z_]\w*)(?:\s*,\s*([A-Za-z_]\w*))?\s+in\b/g)) {
      for (const name of made.slice(1)) if (name) own.add(name)
    }
    const set = /^\s*set\s+([A-Za-z_]\w*)/.exec(text.slice(from, to))
    if (set) own.add(set[1]!)
  }
  return parts.flatMap(({ from, to }) => within(text, from, to)).filter((name) => !own.has(name.path[0]!))
}

function within(text: string, from: number, to: number): Name[] {
  const found: Name[] = []
  let quote = ''
  let before = ''
  for (let at = from; at < to; at++) {
    const sign = text[at]!
    if (quote) {
      if (sign === quote) quote = ''
      continue
    }
    if (sign === '"' || sign === "'") {
      quote = sign
      before = sign
      continue
    }
    IDENTIFIER.lastIndex = at
    const word = IDENTIFIER.exec(text)?.[0]
    if (word === undefined) {
      if (/\d/.test(sign)) while (at + 1 < to && /[\w.]/.test(text[at + 1]!)) at++
      if (!/\s/.test(sign)) before = sign
      continue
    }
    const end = at + word.length
    const keyword = /^\s*=(?!=)/.test(text.slice(end, to)) && (before === '(' || before === ',')
    if (before !== '.' && before !== '|' && before !== 'is' && !WORDS.has(word) && !keyword) found.push({ path: [word, ...keys(text, end, to)], at })
    before = before === 'is' && word === 'not' ? 'is' : word
    at = end - 1
  }
  return found
}

function keys(text: string, from: number, to: number): string[] {
  const found: string[] = []
  const step = /\s*(?:\.\s*([A-Za-z_]\w*)|\[\s*(?:'([^']*)'|"([^"]*)"|(\d+))\s*\])/y
  step.lastIndex = from
  for (let one = step.exec(text); one && step.lastIndex <= to; one = step.exec(text)) found.push(one[1] ?? one[2] ?? one[3] ?? one[4]!)
  return found
}

/** The one reference that a text is, if it is nothing else: `${ guest.email }`. */
export function reference(text: string): string[] | null {
  const whole = /^\$\{\s*([A-Za-z_]\w*(?:\.[A-Za-z_]\w*|\[\d+\]|\['[^']*'\])*)\s*\}$/.exec(text.trim())
  return whole ? (names(text)[0]?.path ?? null) : null
}

/** A reference as an expression. */
export function expression(path: readonly string[]): string {
  return `\${ ${path[0]}${path
    .slice(1)
    .map((key) => (/^\d+$/.test(key) ? `[${key}]` : /^[A-Za-z_]\w*$/.test(key) ? `.${key}` : `['${key.replace(/'/g, "\\'")}']`))
    .join('')} }`
}
