import { isAlias, isMap, isScalar, isSeq, type Node, parseDocument, type Document, type Pair, type YAMLMap, type YAMLSeq } from 'yaml'

/** A place in a document: `steps.2.branch.0.steps.1` is `['steps', 2, 'branch', 0, 'steps', 1]`. */
export type Path = readonly (string | number)[]

/** Where an entry of a list stands: whole lines from `from` to `to`, with the comments above it; its dash in column `indent`. */
export interface Entry {
  path: Path
  from: number
  to: number
  /** Where the line of its dash begins. */
  line: number
  indent: number
  /** Whether it stands in brackets, and so in no lines of its own. */
  flow: boolean
  node: Node
}

/** A text that could be read, and where things stand in it. */
export class Source {
  private constructor(
    readonly text: string,
    readonly tree: Document.Parsed,
    /** The whole of it as plain data, to be read and never changed. */
    readonly data: Record<string, unknown>,
  ) {}

  /** What a text says; null for one that cannot be read as YAML. */
  static read(text: string): Source | null {
    const tree = parseDocument(text, { keepSourceTokens: true, uniqueKeys: true, strict: true, logLevel: 'silent' })
    if (tree.errors.length || !isMap(tree.contents)) return null
    try {
      return new Source(text, tree, frozen(tree.toJS() as Record<string, unknown>))
    } catch {
      // aliases that would stand for too much
      return null
    }
  }

  /** What stands at a place; undefined when nothing does. */
  node(path: Path): Node | undefined {
    let here: unknown = this.tree.contents
    for (const key of path) {
      if (isMap(here)) here = pair(here, key)?.value
      else if (isSeq(here) && typeof key === 'number') here = here.items[key]
      else return undefined
    }
    return (here ?? undefined) as Node | undefined
  }

  /** Plain data of a place. */
  value(path: Path): unknown {
    let here: unknown = this.data
    for (const key of path) {
      if (here === null || typeof here !== 'object' || !Object.hasOwn(here, key)) return undefined
      here = (here as Record<string | number, unknown>)[key]
    }
    return here
  }

  /** The pair of a key, in the mapping that holds it. */
  pair(path: Path): { map: YAMLMap; pair: Pair<Node, Node | null> } | undefined {
    const map = this.node(path.slice(0, -1))
    const found = isMap(map) ? pair(map, path.at(-1)!) : undefined
    return found && { map: map as YAMLMap, pair: found }
  }

  /** Where the line begins in which an offset stands. */
  lineStart(at: number): number {
    return this.text.lastIndexOf('\n', at - 1) + 1
  }

  /** Where the next line begins; the end of the text at the last one. */
  nextLine(at: number): number {
    const end = this.text.indexOf('\n', at)
    return end < 0 ? this.text.length : end + 1
  }

  column(at: number): number {
    return at - this.lineStart(at)
  }

  /** Where a node ends: behind its last letter, without the end of the line. */
  end(node: Node): number {
    const at = node.range![1]
    let end = at
    while (end > node.range![0] && /\s/.test(this.text[end - 1]!)) end--
    return end
  }

  /** An entry of a list. */
  entry(path: Path): Entry | undefined {
    const list = this.node(path.slice(0, -1))
    const index = path.at(-1)
    if (!isSeq(list) || typeof index !== 'number' || !list.items[index]) return undefined
    const node = list.items[index] as Node
    if (list.flow || this.inFlow(path.slice(0, -1)))
      return { path, from: node.range![0], to: node.range![1], line: node.range![0], indent: 0, flow: true, node }
    const dash = dashOf(list, index)
    const indent = this.column(dash)
    const line = this.lineStart(dash)
    return { path, from: this.commentsAbove(line, indent), to: this.linesBelow(this.end(node), indent), line, indent, flow: false, node }
  }

  /** Whether a place stands inside of brackets. */
  inFlow(path: Path): boolean {
    for (let length = path.length; length >= 0; length--) {
      const node = this.node(path.slice(0, length))
      if ((isMap(node) || isSeq(node)) && node.flow) return true
    }
    return false
  }

  /** Where the comments begin that stand right above a line, in its column. */
  commentsAbove(line: number, indent: number): number {
    let first = line
    while (first > 0) {
      const above = this.lineStart(first - 1)
      const text = this.text.slice(above, first)
      if (!/^ *#/.test(text) || text.search(/\S/) !== indent) break
      first = above
    }
    return first
  }

  /** Where the lines end that belong to something in a column: those of comments that stand further to the right come along. */
  linesBelow(at: number, indent: number): number {
    let end = this.nextLine(at)
    for (let next = end; next < this.text.length;) {
      const stop = this.nextLine(next)
      const text = this.text.slice(next, stop)
      if (/^ *#/.test(text) && text.search(/\S/) > indent) end = stop
      else if (text.trim()) break
      next = stop
    }
    return end
  }
}

function frozen<T>(value: T): T {
  if (value && typeof value === 'object') {
    Object.values(value).forEach(frozen)
    Object.freeze(value)
  }
  return value
}

function pair(map: YAMLMap, key: string | number): Pair<Node, Node | null> | undefined {
  return map.items.find((one) => isScalar(one.key) && String(one.key.value) === String(key)) as Pair<Node, Node | null> | undefined
}

function dashOf(list: YAMLSeq, index: number): number {
  const token = list.srcToken
  const start = token?.type === 'block-seq' ? token.items[index]!.start.find((one) => one.type === 'seq-item-ind') : undefined
  return start!.offset
}

/** A place as the service names it: `steps.2.branch.0`. */
export function pathOf(named: string): Path {
  return named.split('.').map((part) => (/^\d+$/.test(part) ? Number(part) : part))
}

/** The key under which a document is named: `agent` of an agent document. */
export function nameKey(source: Source): 'agent' | 'workflow' {
  return 'agent' in source.data && !('workflow' in source.data) ? 'agent' : 'workflow'
}

export function nameOf(path: Path): string {
  return path.join('.')
}

export { isAlias, isMap, isScalar, isSeq }
