import type { Coming } from '../../api/client'
import { Ago } from '../../ui/Ago'
import { useNow } from '../../ui/clock'

const day = 86_400_000
const weekday = new Intl.DateTimeFormat('en-GB', { weekday: 'narrow' })
const date = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })

// Fortnight draws the windows and freezes of the next fourteen days: a window open, a freeze struck.
export function Fortnight({ ahead }: { ahead: Coming[] }) {
  const now = useNow()
  const names = [...new Set(ahead.map((c) => `${c.freeze ? 'freeze' : 'window'} ${c.name}`))]
  const start = new Date(now)
  start.setHours(0, 0, 0, 0)
  const x = (at: number) => Math.max(0, Math.min(280, (20 * (at - start.getTime())) / day))
  const rows = names.map((name) => ({ name, all: ahead.filter((c) => `${c.freeze ? 'freeze' : 'window'} ${c.name}` === name) }))
  return (
    <section aria-label="Windows and freezes">
      <h2>The next fourteen days</h2>
      {rows.length === 0 && <p className="second">No window and no freeze: hosts may be changed at any time.</p>}
      {rows.length > 0 && (
        <svg className="fortnight" viewBox={`0 0 290 ${22 + rows.length * 16}`} role="img" aria-label={rows.map((r) => r.name).join(', ')}>
          {Array.from({ length: 14 }, (_, i) => {
            const at = new Date(start.getTime() + i * day)
            return (
              <g key={i}>
                <path d={`M${i * 20},14 V${20 + rows.length * 16}`} stroke="var(--line)" />
                <text x={i * 20 + 10} y={10} textAnchor="middle">
                  <title>{date.format(at)}</title>
                  {weekday.format(at)}
                </text>
              </g>
            )
          })}
          {rows.map((r, i) => (
            <g key={r.name}>
              {r.all.map((c, k) => {
                const from = x(Date.parse(c.from))
                const width = Math.max(2, x(Date.parse(c.to)) - from)
                const y = 18 + i * 16
                return (
                  <g key={k}>
                    <title>{`${c.freeze ? 'Freeze' : 'Window'} “${c.name}”: ${c.from} to ${c.to}`}</title>
                    <rect x={from} y={y} width={width} height={10} fill={c.freeze ? 'var(--line)' : 'none'} stroke={c.freeze ? 'var(--brick)' : 'var(--leaf)'} strokeWidth={1.2} />
                    {c.freeze && <path d={`M${from},${y + 10} L${from + width},${y}`} stroke="var(--brick)" strokeWidth={1.2} />}
                  </g>
                )
              })}
              <path d={`M${x(now)},14 v${8 + i * 16}`} stroke="var(--ink)" />
            </g>
          ))}
        </svg>
      )}
      <ul className="plain">
        {rows.map((r) => {
          const next = r.all[0]
          const open = next && Date.parse(next.from) <= now
          return (
            next && (
              <li key={r.name} className="wrap">
                <span>
                  {next.freeze ? 'Freeze' : 'Window'} “{next.name}”{next.where && <> where <code>{next.where}</code></>}{next.because && `: ${next.because}`}
                  <br />
                  <span className="second">
                    {open ? (next.freeze ? 'holds, until ' : 'is open, until ') : next.freeze ? 'begins ' : 'opens '}
                    <Ago at={open ? next.to : next.from} />
                  </span>
                </span>
              </li>
            )
          )
        })}
      </ul>
    </section>
  )
}
