import { ref } from 'vue'

/** Times as they are read: short and in the viewer's zone; the whole of it, with the zone, where somebody points at it. */
const TIME: Intl.DateTimeFormatOptions = { hour: '2-digit', minute: '2-digit', hourCycle: 'h23' }
/** How a moment is written, made when it is first needed: making one takes a slow machine 40 ms. */
function format(how: Intl.DateTimeFormatOptions): (at: Date) => string {
  let made: Intl.DateTimeFormat | undefined
  return (at) => (made ??= new Intl.DateTimeFormat(undefined, how)).format(at)
}
const clock = format(TIME)
const precise = format({ ...TIME, second: '2-digit' })
const day = format({ day: 'numeric', month: 'short' })
const year = format({ day: 'numeric', month: 'short', year: 'numeric' })
const whole = format({ dateStyle: 'full', timeStyle: 'long', hourCycle: 'h23' })
const HOUR = 3_600_000

/** The time as it goes on, for what is told from now; every half minute. */
export const present = ref(Date.now())
if (typeof window !== 'undefined') window.setInterval(() => document.hidden || (present.value = Date.now()), 30_000)

function dated(at: Date, now: Date, time: string): string {
  if (at.toDateString() === now.toDateString()) return time
  return `${(at.getFullYear() === now.getFullYear() ? day : year)(at)} ${time}`
}

/** A moment to the second, with its day when that is not today; `–` for none. */
export function moment(text: string | null | undefined, now = new Date()): string {
  if (!text) return '–'
  const at = new Date(text)
  return dated(at, now, precise(at))
}

/** A moment as it is read in passing: `just now`, `4 min ago`, `in 20 min`, `06:00`, `3 Nov 06:00`. */
export function passing(text: string | null | undefined, now = present.value): string {
  if (!text) return '–'
  const at = new Date(text)
  const away = now - at.getTime()
  const minutes = Math.round(Math.abs(away) / 60_000)
  if (Math.abs(away) < HOUR) {
    if (minutes < 1) return away >= 0 ? 'just now' : 'in a moment'
    return away > 0 ? `${minutes} min ago` : `in ${minutes} min`
  }
  return dated(at, new Date(now), clock(at))
}

/** The hour of a step of time, with its day where steps span days. */
export function hour(text: string, days: boolean): string {
  const at = new Date(text)
  return days ? `${day(at)} ${clock(at)}` : clock(at)
}

/** A moment with its zone. */
export function exact(text: string | null | undefined): string {
  return text ? whole(new Date(text)) : ''
}

/** Seconds between two moments. */
export function between(from: string | null | undefined, to: string | null | undefined): number | null {
  return from && to ? (Date.parse(to) - Date.parse(from)) / 1000 : null
}

/** `320 ms`, `4.2 s`, `3 min 10 s`, `2 h 5 min`, `3 d 4 h`; seconds in. */
export function duration(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return '–'
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`
  if (seconds < 60) return `${seconds.toFixed(1)} s`
  const minutes = Math.floor(seconds / 60)
  if (minutes < 60) return `${minutes} min ${Math.floor(seconds % 60)} s`
  const hours = Math.floor(minutes / 60)
  return hours < 48 ? `${hours} h ${minutes % 60} min` : `${Math.floor(hours / 24)} d ${hours % 24} h`
}
