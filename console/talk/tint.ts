/** A colour for head and buttons, and the one in which words on it are read: the contrast is at least 4.5 to 1 (WCAG 2.2, 1.4.3). */
export function tint(colour: string): void {
  const parts = [1, 3, 5]
    .map((at) => Number.parseInt(colour.slice(at, at + 2), 16) / 255)
    .map((one) => (one <= 0.04045 ? one / 12.92 : ((one + 0.055) / 1.055) ** 2.4))
  const light = 0.2126 * parts[0]! + 0.7152 * parts[1]! + 0.0722 * parts[2]!
  document.documentElement.style.setProperty('--tint', colour)
  document.documentElement.style.setProperty('--on-tint', light > 0.179 ? '#000000' : '#ffffff')
}
