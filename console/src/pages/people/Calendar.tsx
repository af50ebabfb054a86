import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import type { Coming } from '../../api/client'
import { calendar } from '../../api/queries'
import { Problem } from '../../ui/States'

const day = 86_400_000
const weeks = 5
const date = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone

// monday is the beginning of this week in the reader's zone.
function monday(): Date {
  const at = new Date()
  at.setHours(0, 0, 0, 0)
  at.setDate(at.getDate() - ((at.getDay() + 6) % 7))
  return at
}

// Calendar draws weeks: windows are open, freezes struck.
export function Calendar() {
  const start = useMemo(() => monday(), [])
  const days = Array.from({ length: weeks * 7 }, (_, i) => new Date(start.getFullYear(), start.getMonth(), start.getDate() + i))
  const end = new Date(start.getFullYear(), start.getMonth(), start.getDate() + weeks * 7)
  const query = useQuery(calendar(start.toISOString(), end.toISOString()))
  const today = new Date().toDateString()
  const on = (d: Date) => (query.data ?? []).filter((c) => Date.parse(c.from) < d.getTime() + day && Date.parse(c.to) > d.getTime())
  return (
    <section id="calendar" aria-label="Calendar">
      <h2>Windows and freezes</h2>
      {query.error && <Problem error={query.error} />}
      {query.data?.length === 0 && <p className="second">No window and no freeze within {weeks} weeks: hosts may be changed at any time.</p>}
      {query.data && query.data.length > 0 && (
        <div className="scrolls">
          <table className="calendar">
            <caption className="second">Times of {zone}</caption>
            <thead>
              <tr>
                {['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'].map((d) => (
                  <th key={d} scope="col">
                    {d}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {Array.from({ length: weeks }, (_, w) => (
                <tr key={w}>
                  {days.slice(w * 7, w * 7 + 7).map((d) => (
                    <td key={d.toISOString()} className={d.toDateString() === today ? 'at' : undefined} aria-current={d.toDateString() === today ? 'date' : undefined}>
                      <span className="second">{date.format(d)}</span>
                      {on(d).map((c, i) => (
                        <Span key={i} of={c} on={d} />
                      ))}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  )
}

function Span({ of: c, on }: { of: Coming; on: Date }) {
  const from = new Date(c.from)
  const to = new Date(c.to)
  const begins = from.getTime() >= on.getTime()
  const ends = to.getTime() < on.getTime() + day
  const hours = begins || ends ? `${begins ? clock.format(from) : ''}–${ends ? clock.format(to) : ''}` : 'all day'
  return (
    <div className={c.freeze ? 'span freeze' : 'span'} title={`${c.freeze ? 'Freeze' : 'Window'} “${c.name}”${c.where ? ` where ${c.where}` : ''}${c.because ? `: ${c.because}` : ''}`}>
      {c.freeze ? 'freeze ' : ''}
      {c.name} <span className="second">{hours}</span>
    </div>
  )
}
