import { useNow } from './clock'

const exact = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'long' })

// Ago says a time as "4 min ago", and exactly, with its zone, on hover.
export function Ago({ at }: { at: string }) {
  const then = new Date(at)
  const now = useNow()
  const minutes = Math.floor((Math.max(now, then.getTime()) - then.getTime()) / 60_000)
  const words = minutes < 1 ? 'just now' : minutes < 60 ? `${minutes} min ago` : minutes < 48 * 60 ? `${Math.floor(minutes / 60)} h ago` : `${Math.floor(minutes / 1440)} days ago`
  return (
    <time dateTime={at} title={exact.format(then)}>
      {words}
    </time>
  )
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

export function counted(n: number, one: string): string {
  return n === 1 ? `1 ${one}` : `${n} ${one}s`
}
