export interface Exchange {
  request: { method: string; url: string; headers: Record<string, string>; body: string; credential: string | null }
  response?: { status: number; headers: Record<string, string>; body: string }
}

export interface Turn {
  alias?: string
  model?: string
  messages?: { role: string; content: unknown }[]
  reply?: string
  reasoning?: string
  usage?: { input: number; output: number; money: number }
  exchange?: Exchange
}

const OURS = new Set(['host', 'accept', 'accept-encoding', 'connection', 'content-length', 'user-agent', 'traceparent', 'idempotency-key'])

/** The request as a curl command; where a credential was, a variable stands. */
export function curl(exchange: Exchange): string {
  const { request } = exchange
  const quote = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`
  const headers = Object.entries(request.headers)
    .filter(([name]) => !OURS.has(name.toLowerCase()))
    .map(([name, value]) => (value.includes('‹blanked›') ? `  -H "${name}: $${(request.credential ?? 'SECRET').toUpperCase().replaceAll(/\W/g, '_')}"` : `  -H ${quote(`${name}: ${value}`)}`))
  const body = request.body ? [`  -d ${quote(request.body)}`] : []
  return [`curl -X ${request.method} ${quote(request.url)}`, ...headers, ...body].join(' \\\n')
}
