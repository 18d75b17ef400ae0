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

/** The request as a curl command; where a credential was, a variable stands. Whatever the request holds, a shell and curl take it as text: no file is read and no pattern is followed. */
export function curl(exchange: Exchange): string {
  const { request } = exchange
  const quote = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`
  const headers = Object.entries(request.headers)
    .filter(([name]) => !OURS.has(name.toLowerCase()))
    .map(([name, value]) =>
      value.includes('‹blanked›')
        ? `  -H ${quote(`${name}: `)}"$${(request.credential ?? 'SECRET').toUpperCase().replaceAll(/\W/g, '_')}"`
        : `  -H ${quote(`${name}: ${value}`)}`,
    )
  const body = request.body ? [`  --data-raw ${quote(request.body)}`] : []
  return [`curl --globoff -X ${quote(request.method)} ${quote(request.url)}`, ...headers, ...body].join(' \\\n')
}
