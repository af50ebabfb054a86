import { useNow } from './clock'

const exact = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'long' })

// Ago says a time as "4 min ago" or "in 4 min", and exactly, with its zone, on hover.
export function Ago({ at }: { at: string }) {
  const then = new Date(at)
  return (
    <time dateTime={at} title={exact.format(then)}>
      {ago(then.getTime(), useNow())}
    </time>
  )
}

// ago says how far a moment is from now; within a minute, clocks that differ do not show.
function ago(then: number, now: number): string {
  const minutes = Math.floor(Math.abs(now - then) / 60_000)
  if (minutes < 1) return 'just now'
  const far = minutes < 60 ? `${minutes} min` : minutes < 48 * 60 ? `${Math.floor(minutes / 60)} h` : `${Math.floor(minutes / 1440)} days`
  return then > now ? `in ${far}` : `${far} ago`
}

const day = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium' })

// Day says a day, and exactly when, with its zone, on hover.
export function Day({ at }: { at: string }) {
  const then = new Date(at)
  return (
    <time dateTime={at} title={exact.format(then)}>
      {day.format(then)}
    </time>
  )
}

// inWords says a length of time, given in nanoseconds.
export function inWords(nanoseconds: number): string {
  const seconds = nanoseconds / 1e9
  if (seconds < 60) return `${Math.round(seconds * 10) / 10} s`
  const minutes = Math.round(seconds / 60)
  return minutes < 120 ? `${minutes} min` : `${Math.round(minutes / 6) / 10} h`
}

export function counted(n: number, one: string): string {
  return n === 1 ? `1 ${one}` : `${n} ${one}s`
}

// milliseconds says a short time, with a tenth where that counts.
export function milliseconds(ms: number): string {
  return ms < 10 ? `${ms.toFixed(1)} ms` : `${Math.round(ms)} ms`
}
