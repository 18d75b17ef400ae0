import { CannotEdit } from './changes'

/** A request that a curl command makes, as the fields of `http.request`; what of it is secret is told apart. */
export interface CurlStep {
  with: Record<string, unknown>
  /** What proves who asks; it belongs into a credential. */
  secret?: { kind: 'bearer' | 'header' | 'basic'; header?: string; user?: string; value: string; host: string }
}

const NO_VALUE = new Set([
  '-s',
  '--silent',
  '-S',
  '--show-error',
  '-L',
  '--location',
  '-i',
  '--include',
  '-v',
  '--verbose',
  '-k',
  '--insecure',
  '--compressed',
  '-g',
  '--globoff',
  '-f',
  '--fail',
  '-G',
  '--get',
  '-I',
  '--head',
  '--http1.1',
  '--http2',
])
const SECRET = /^(authorization|proxy-authorization|x-api-key|api-key|apikey|x-auth-token|x-access-token|cookie)$/i
const MOST = 100_000

/** Whether a text looks like a curl command. */
export function isCurl(text: string): boolean {
  return /^\s*(\$\s*)?curl\s/.test(text)
}

/** The step that a curl command is. Throws `CannotEdit` for one that cannot be read, or does what a step does not. */
export function curlStep(text: string): CurlStep {
  if (text.length > MOST) throw new CannotEdit('this command is too long')
  const words = shellWords(text.trim().replace(/^\$\s*/, ''))
  if (words.shift() !== 'curl') throw new CannotEdit('this is no curl command')
  const headers: Record<string, string> = {}
  const bodies: string[] = []
  const found: CurlStep = { with: {} }
  let method = ''
  let url = ''
  let user = ''
  let asQuery = false
  const value = (word: string, short: string): string => {
    if (word.startsWith('--')) return word.includes('=') ? word.slice(word.indexOf('=') + 1) : needed(words, word)
    return word.length > short.length ? word.slice(short.length) : needed(words, word)
  }
  while (words.length) {
    const word = words.shift()!
    const name = word.startsWith('--') ? word.split('=')[0]! : word.slice(0, 2)
    if (!word.startsWith('-') || word === '-') url ||= word
    else if (NO_VALUE.has(word)) {
      asQuery ||= word === '-G' || word === '--get'
      if (word === '-I' || word === '--head') method = 'HEAD'
    } else if (name === '-X' || name === '--request') method = value(word, '-X').toUpperCase()
    else if (name === '--url') url = value(word, '')
    else if (name === '-u' || name === '--user') user = value(word, '-u')
    else if (name === '-A' || name === '--user-agent') headers['User-Agent'] = value(word, '-A')
    else if (name === '-H' || name === '--header') {
      const [key, ...rest] = value(word, '-H').split(':')
      if (rest.length) headers[key!.trim()] = rest.join(':').trim()
    } else if (
      name === '-d' ||
      name === '--data' ||
      name === '--data-raw' ||
      name === '--data-ascii' ||
      name === '--data-binary' ||
      name === '--json' ||
      name === '--data-urlencode'
    ) {
      const given = value(word, '-d')
      if (given.startsWith('@') && name !== '--data-raw') throw new CannotEdit('it sends a file; write what is in it')
      if (name === '--json') {
        headers['Content-Type'] ??= 'application/json'
        headers.Accept ??= 'application/json'
      }
      bodies.push(given)
    } else if (/^-[sSLivkgfGI]+$/.test(word)) asQuery ||= word.includes('G')
    else if (name === '-F' || name === '--form') throw new CannotEdit('it sends a form with files, which a step does not do yet')
    else if (
      name === '-o' ||
      name === '--output' ||
      name === '-m' ||
      name === '--max-time' ||
      name === '--connect-timeout' ||
      name === '-e' ||
      name === '--referer'
    )
      value(word, name)
    else throw new CannotEdit(`what ${word} means is not known here`)
  }
  if (!url) throw new CannotEdit('it names no address')
  const place = addressOf(url)
  found.with = { method: method || (bodies.length && !asQuery ? 'POST' : 'GET'), url: place.url }
  if (Object.keys(place.query).length) found.with.query = place.query
  if (place.user) user ||= place.user
  for (const [key, given] of Object.entries(headers)) {
    if (SECRET.test(key) && !found.secret) {
      const bearer = /^authorization$/i.test(key) ? /^bearer\s+(.+)$/i.exec(given) : null
      const basic = /^authorization$/i.test(key) ? /^basic\s+(\S+)$/i.exec(given) : null
      if (basic) user = decoded(basic[1]!)
      else
        found.secret = bearer
          ? { kind: 'bearer', value: bearer[1]!, host: place.host }
          : { kind: 'header', header: key, value: given, host: place.host }
      delete headers[key]
    }
  }
  if (user) {
    const [name, ...rest] = user.split(':')
    found.secret = { kind: 'basic', user: name!, value: rest.join(':'), host: place.host }
  }
  body(found, bodies, headers, asQuery)
  if (Object.keys(headers).length) found.with.headers = headers
  return found
}

function body(found: CurlStep, bodies: string[], headers: Record<string, string>, asQuery: boolean): void {
  if (!bodies.length) return
  const text = bodies.join('&')
  if (asQuery) {
    found.with.query = { ...(found.with.query as object | undefined), ...Object.fromEntries(new URLSearchParams(text)) }
    return
  }
  const type = Object.keys(headers).find((one) => /^content-type$/i.test(one))
  let json: unknown
  try {
    json = JSON.parse(text)
  } catch {
    json = undefined
  }
  if (json !== undefined && (!type || headers[type]!.includes('json'))) {
    found.with.json = json
    if (type) delete headers[type]
  } else if (!type || headers[type]!.includes('x-www-form-urlencoded')) {
    found.with.form = Object.fromEntries(new URLSearchParams(text))
    if (type) delete headers[type]
  } else throw new CannotEdit(`it sends ${headers[type]}, which a step does not send yet`)
}

function addressOf(text: string): { url: string; host: string; user: string; query: Record<string, string> } {
  let made: URL
  try {
    made = new URL(/^[a-z]+:\/\//i.test(text) ? text : `http://${text}`)
  } catch {
    throw new CannotEdit(`${text.slice(0, 80)} is no address`)
  }
  if (!/^https?:$/.test(made.protocol)) throw new CannotEdit('only http and https are sent to')
  const query = Object.fromEntries(made.searchParams)
  const user = made.username ? `${decodeURIComponent(made.username)}:${decodeURIComponent(made.password)}` : ''
  return { url: `${made.protocol}//${made.host}${made.pathname}`, host: made.host, user, query }
}

function decoded(text: string): string {
  try {
    return atob(text)
  } catch {
    throw new CannotEdit('its authorization cannot be read')
  }
}

function needed(words: string[], option: string): string {
  const word = words.shift()
  if (word === undefined) throw new CannotEdit(`${option} says nothing`)
  return word
}

/** The words of a command as a shell takes them (POSIX quoting, and `$'…'`); nothing in it is carried out. */
export function shellWords(text: string): string[] {
  const found: string[] = []
  let word: string | null = null
  for (let at = 0; at < text.length; at++) {
    const sign = text[at]!
    if (sign === '\\') {
      const next = text[++at]
      if (next === '\r' && text[at + 1] === '\n') at++
      else if (next !== '\n' && next !== undefined) word = (word ?? '') + next
    } else if (sign === "'" || (sign === '$' && text[at + 1] === "'")) {
      const ansi = sign === '$'
      if (ansi) at++
      let inner = ''
      for (at++; at < text.length && text[at] !== "'"; at++) inner += ansi && text[at] === '\\' ? escape(text[++at] ?? '') : text[at]
      if (at >= text.length) throw new CannotEdit('a quote is not closed')
      word = (word ?? '') + inner
    } else if (sign === '"') {
      let inner = ''
      for (at++; at < text.length && text[at] !== '"'; at++) {
        if (text[at] === '\\' && /["\\$`\n]/.test(text[at + 1] ?? '')) inner += text[++at] === '\n' ? '' : text[at]
        else inner += text[at]
      }
      if (at >= text.length) throw new CannotEdit('a quote is not closed')
      word = (word ?? '') + inner
    } else if (/\s/.test(sign)) {
      if (word !== null) found.push(word)
      word = null
    } else if (/[|;&<>`]/.test(sign)) throw new CannotEdit('only a single command is taken')
    else word = (word ?? '') + sign
  }
  if (word !== null) found.push(word)
  return found
}

function escape(letter: string): string {
  return { n: '\n', r: '\r', t: '\t' }[letter] ?? letter
}
