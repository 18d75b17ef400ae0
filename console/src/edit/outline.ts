import type { Path } from './source'

/** Where in a document an offset is, found by indentation alone, so that it is known while the text cannot be read. */
export interface Place {
  /** The mapping or list in which a key is begun, or the place of the value that is written. */
  path: Path
  kind: 'key' | 'value' | 'text'
  /** What is written of it so far, and where that begins. */
  typed: string
  from: number
}

interface Level {
  indent: number
  key: string | number
  item: boolean
}

const KEY = /^("[^"]*"|'[^']*'|[^\s#:,[\]{}"'&*!|>%@`-][^:#]*?|-[^\s:#][^:#]*?)\s*:(?=\s|$)/
const BLOCK = /^[|>][-+0-9]*\s*(?:#.*)?$/

/** The keys of a text, each with the path that leads to it, and what is written behind it on its line. */
export class Outline {
  private stack: Level[] = []
  private block = -1
  /** By the dotted path of a mapping: its keys, and what stands behind them. */
  readonly keys = new Map<string, Map<string, string>>()
  private readonly places = new Map<number, Place>()

  constructor(
    text: string,
    private readonly at = -1,
  ) {
    let from = 0
    for (const line of text.split('\n')) {
      this.line(line, from)
      from += line.length + 1
    }
  }

  /** The keys that stand in a mapping. */
  of(path: Path): Map<string, string> {
    return this.keys.get(path.join('.')) ?? new Map<string, string>()
  }

  /** Where the offset is that was asked for. */
  get place(): Place {
    return this.places.get(this.at) ?? { path: [], kind: 'key', typed: '', from: this.at }
  }

  private get path(): Path {
    return this.stack.map((level) => level.key)
  }

  private line(line: string, from: number): void {
    const here = this.at >= from && this.at <= from + line.length
    const indent = line.search(/\S/)
    const cursor = this.at - from
    if (this.block >= 0 && (indent < 0 || indent > this.block)) {
      if (here && (indent >= 0 || cursor > this.block))
        this.note({ path: this.path, kind: 'text', typed: line.slice(0, cursor).trimStart(), from: from + Math.max(0, indent) })
      else if (here) this.note({ path: this.under(cursor), kind: 'key', typed: '', from: this.at })
      return
    }
    this.block = -1
    if (here && line[indent] === '#' && cursor > indent) this.note({ path: this.path, kind: 'text', typed: '', from: this.at })
    else if (here && (indent < 0 || cursor <= indent)) this.note({ path: this.under(cursor), kind: 'key', typed: '', from: this.at })
    if (indent >= 0 && line[indent] !== '#') this.entries(line, from, indent)
  }

  private entries(line: string, from: number, start: number): void {
    let at = start
    while (line[at] === '-' && (at + 1 === line.length || line[at + 1] === ' ')) {
      this.dash(at)
      const next = line.slice(at + 1).search(/\S/)
      at = next < 0 ? line.length : at + 1 + next
    }
    const cursor = this.at - from
    const here = this.at >= from && cursor <= line.length && cursor > start
    const key = KEY.exec(line.slice(at))
    if (!key) {
      if (BLOCK.test(line.slice(at))) this.block = this.stack.at(-1)?.indent ?? start
      if (here) {
        const path = at > start ? this.path : this.under(at)
        this.note(
          this.inFlow(path, line.slice(at, cursor), from + at) ?? {
            path,
            kind: 'key',
            typed: line.slice(at, cursor),
            from: from + Math.min(at, cursor),
          },
        )
      }
      return
    }
    this.leave(at)
    const name = bare(key[1]!)
    const behind = at + key[0].length
    const value = line.slice(behind)
    this.keep(this.path, name, value.trim())
    if (here && cursor < behind)
      this.note({ path: this.path, kind: 'key', typed: line.slice(at, Math.max(at, cursor)), from: from + Math.min(at, cursor) })
    this.stack.push({ indent: at, key: name, item: false })
    if (here && cursor >= behind) {
      const begin = Math.min(cursor, behind + (value.search(/\S/) < 0 ? value.length : value.search(/\S/)))
      const typed = line.slice(begin, cursor)
      this.note(this.inFlow(this.path, typed, from + begin) ?? { path: this.path, kind: 'value', typed, from: from + begin })
    }
    if (BLOCK.test(value.trim())) this.block = at
    else this.flowKeys(this.path, value)
  }

  private dash(at: number): void {
    this.leave(at + 1)
    const top = this.stack.at(-1)
    if (top?.item && top.indent === at) top.key = (top.key as number) + 1
    else this.stack.push({ indent: at, key: 0, item: true })
  }

  /** Leave what ends where something begins in a column. */
  private leave(column: number): void {
    while (this.stack.length && this.stack.at(-1)!.indent >= column) this.stack.pop()
  }

  /** The path that holds a key begun in a column. */
  private under(column: number): Path {
    return this.stack.filter((level) => level.indent < column).map((level) => level.key)
  }

  private keep(path: Path, name: string, value: string): void {
    const at = path.join('.')
    const found = this.keys.get(at) ?? new Map<string, string>()
    found.set(name, value)
    this.keys.set(at, found)
  }

  private note(place: Place): void {
    this.places.set(this.at, place)
  }

  /** What is written in brackets on one line. */
  private inFlow(path: Path, written: string, from: number): Place | null {
    const open: { path: Path; map: boolean; count: number; begin: number; key: string | null }[] = []
    let quote = ''
    for (let n = 0; n < written.length; n++) {
      const sign = written[n]!
      const top = open.at(-1)
      if (quote) {
        if (sign === quote) quote = ''
      } else if (sign === '"' || sign === "'") quote = sign
      else if ((sign === '{' && written[n - 1] !== '$') || sign === '[') {
        const inside = top ? [...top.path, top.map ? (top.key ?? '') : top.count] : path
        open.push({ path: inside, map: sign === '{', count: 0, begin: n + 1, key: null })
      } else if (sign === '}' || sign === ']') open.pop()
      else if (top && sign === ',') Object.assign(top, { count: top.count + 1, begin: n + 1, key: null })
      else if (top?.map && sign === ':' && top.key === null && (written[n + 1] === ' ' || n + 1 === written.length))
        Object.assign(top, { key: bare(written.slice(top.begin, n).trim()), begin: n + 1 })
    }
    const top = open.at(-1)
    if (!top) return null
    const begin = top.begin + /^\s*/.exec(written.slice(top.begin))![0].length
    const place = top.map ? (top.key === null ? top.path : [...top.path, top.key]) : [...top.path, top.count]
    return { path: place, kind: top.map && top.key === null ? 'key' : 'value', typed: written.slice(begin), from: from + begin }
  }

  private flowKeys(path: Path, value: string): void {
    if (!value.trim().startsWith('{')) return
    for (const found of value.matchAll(/(?:^\s*\{|,)\s*([A-Za-z_][\w-]*)\s*:\s*([^,}]*)/g)) this.keep(path, found[1]!, found[2]!.trim())
  }
}

function bare(key: string): string {
  return key.replace(/^["']|["']$/g, '')
}
