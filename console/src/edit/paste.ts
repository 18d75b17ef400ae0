import { parse } from 'yaml'

/** The steps that a pasted text says, as plain data; null for one that says none. */
export function stepsOf(text: string): unknown[] | null {
  let value: unknown
  try {
    value = parse(text, { logLevel: 'silent' })
  } catch {
    return null
  }
  const list = Array.isArray(value)
    ? value
    : value && typeof value === 'object' && 'steps' in value
      ? (value as { steps: unknown }).steps
      : value && typeof value === 'object' && 'step' in value
        ? [value]
        : null
  return Array.isArray(list) && list.length && list.every((one) => one && typeof one === 'object' && 'step' in one) ? list : null
}
