/** Whether a text looks like a curl command. */
export function isCurl(text: string): boolean {
  return /^\s*(\$\s*)?curl\s/.test(text)
}
