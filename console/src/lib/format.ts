import { ref } from 'vue'

/** What all sums are in (ISO 4217), as the service is set; empty where that is not said. */
export const currency = ref('')

/** Money with no more digits than help, and its currency; `unpriced` calls of models whose price is not known are said too. */
export function money(amount: number | null | undefined, unpriced = 0): string {
  if (unpriced) return amount ? `${money(amount)} + ${unpriced} unknown` : 'unknown'
  if (amount === null || amount === undefined) return '–'
  const unit = currency.value && ` ${currency.value}`
  if (amount === 0) return `0${unit}`
  const size = Math.abs(amount)
  const places = size >= 1 ? 2 : Math.min(9, 1 - Math.floor(Math.log10(size)))
  return `${amount.toFixed(places)}${unit}`
}

/** A value as text: JSON unless it is text already. */
export function shown(value: unknown): string {
  return typeof value === 'string' ? value : JSON.stringify(value, null, 2)
}
