/** `320 ms`, `4.2 s`, `3 min 10 s`, `2 h 5 min`; seconds in. */
export function duration(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return '–'
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`
  if (seconds < 60) return `${seconds.toFixed(1)} s`
  const minutes = Math.floor(seconds / 60)
  return minutes < 60 ? `${minutes} min ${Math.floor(seconds % 60)} s` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`
}

/** Money with as many places as it needs; `unpriced` calls of models whose price is not known are said too. */
export function money(amount: number | null | undefined, unpriced = 0): string {
  if (unpriced) return amount ? `${money(amount)} + ${unpriced} unknown` : 'unknown'
  if (amount === null || amount === undefined) return '–'
  if (amount === 0) return '0'
  if (amount >= 1) return amount.toFixed(2)
  return amount >= 0.0001 ? amount.toFixed(4) : amount.toFixed(7)
}

/** A moment in the viewer's zone: the time alone for today. */
export function moment(text: string | null | undefined): string {
  if (!text) return '–'
  const at = new Date(text)
  const today = new Date().toDateString() === at.toDateString()
  const time = at.toLocaleTimeString(undefined, { hour: '2-digit', minute: '2-digit', second: '2-digit' })
  return today ? time : `${at.toLocaleDateString(undefined, { day: 'numeric', month: 'short' })} ${time}`
}

/** A value as text: JSON unless it is text already. */
export function shown(value: unknown): string {
  return typeof value === 'string' ? value : JSON.stringify(value, null, 2)
}

/** Seconds between two moments. */
export function between(from: string | null | undefined, to: string | null | undefined): number | null {
  return from && to ? (Date.parse(to) - Date.parse(from)) / 1000 : null
}
