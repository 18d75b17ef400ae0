/** Money with as many places as it needs; `unpriced` calls of models whose price is not known are said too. */
export function money(amount: number | null | undefined, unpriced = 0): string {
  if (unpriced) return amount ? `${money(amount)} + ${unpriced} unknown` : 'unknown'
  if (amount === null || amount === undefined) return '–'
  if (amount === 0) return '0'
  if (amount >= 1) return amount.toFixed(2)
  return amount >= 0.0001 ? amount.toFixed(4) : amount.toFixed(7)
}

/** A value as text: JSON unless it is text already. */
export function shown(value: unknown): string {
  return typeof value === 'string' ? value : JSON.stringify(value, null, 2)
}
