import { Document, isScalar, Scalar, visit } from 'yaml'

/** Texts that readers of older YAML take for something else than a text. */
const OTHERWISE_READ =
  /^(?:[yYnN]|yes|Yes|YES|no|No|NO|on|On|ON|off|Off|OFF|[-+]?[0-9][0-9_]*_[0-9_]*|[0-9]{4}-[0-9]{1,2}-[0-9]{1,2}.*|[0-9]+(?::[0-5]?[0-9])+|=|<<|0[0-9]+|0[xob].*)$/

function written(value: unknown, flow: boolean): string {
  const made = new Document(value)
  visit(made, {
    Scalar: (_, node) => {
      if (isScalar(node) && typeof node.value === 'string' && OTHERWISE_READ.test(node.value)) node.type = Scalar.QUOTE_DOUBLE
      if (flow && isScalar(node) && typeof node.value === 'string' && node.value.includes('\n')) node.type = Scalar.QUOTE_DOUBLE
    },
    Collection: (_, node) => {
      if (flow) node.flow = true
    },
  })
  return made.toString({ lineWidth: 0, flowCollectionPadding: false, indent: 2 }).replace(/\n$/, '')
}

/** A value in one line, as it stands in brackets. */
export function inFlow(value: unknown): string {
  if (typeof value === 'string') return written([value], true).slice(1, -1)
  return written(value, true).replace(/\n\s*/g, ' ')
}

/** Whether a value stands behind its key in the same line. */
export function isInline(value: unknown): boolean {
  if (typeof value === 'string') return !value.includes('\n')
  return value === null || typeof value !== 'object' || Object.keys(value).length === 0
}

/** What stands behind a key or a dash whose column is `indent`: ` value`, or lines below it. */
export function behind(value: unknown, indent: number, below = '\n'): string {
  if (isInline(value)) return ` ${written(value, false)}`
  if (typeof value === 'string')
    return ` ${written({ a: value }, false)
      .slice(3)
      .replace(/\n(?=.)/g, `\n${' '.repeat(indent)}`)}`
  const lines = written(value, false)
  return below + indented(lines, indent + 2)
}

/** Every line moved to the right. */
export function indented(text: string, by: number): string {
  return text.replace(/^(?=.)/gm, ' '.repeat(by))
}

/** Lines moved to the left, as far as the first one stands to the right; what stands further left stays where it is. */
export function dedented(text: string, by: number): string {
  return text.replace(new RegExp(`^ {0,${by}}`, 'gm'), '')
}
