/** An address that strangers wrote, if a browser may be sent there; undefined for all others, such as scripts. */
export function webAddress(text: string): string | undefined {
  try {
    const url = new URL(text)
    return ['http:', 'https:'].includes(url.protocol) ? url.href : undefined
  } catch {
    return undefined
  }
}
