import { useEffect, useState, type CSSProperties } from 'react'
import type { ChangeDetail, HostRun } from '../../api/client'
import { dark, variables } from '../../theme'
import { Ladder, rungsOf } from '../../ui/Ladder'
import { Counts } from '../../ui/StateMark'

const clock = new Intl.DateTimeFormat('en-GB', { timeStyle: 'medium' })

// Wall is a climb for a big screen: nothing to press, words that are readable from afar, and a clock
// that proves that it lives. Where the connection is lost, the picture is struck through.
export function Wall({ detail: d, runs, up }: { detail: ChangeDetail; runs: HostRun[]; up: boolean }) {
  const [now, setNow] = useState(() => new Date())
  const [lost, setLost] = useState<Date>()
  useEffect(() => {
    const timer = setInterval(() => setNow(new Date()), 1000)
    return () => clearInterval(timer)
  }, [])
  if (up && lost) setLost(undefined)
  if (!up && !lost) setLost(now)
  return (
    <main className="wall" id="work" style={variables(dark) as CSSProperties}>
      <header>
        <h1>
          {d.id} · {d.title}
        </h1>
        <time dateTime={now.toISOString()}>{clock.format(now)}</time>
      </header>
      {d.climb && (
        <>
          <p className="wall-words">
            {d.climb.rolls_back ? 'Roll-back' : 'Climb'}: {d.climb.state}
            {d.climb.why && d.climb.state !== 'completed' && `, ${d.climb.why}`}
          </p>
          <div className="wall-ladder">
            <Ladder rungs={rungsOf(d.climb)} runs={runs} />
          </div>
          <div className="wall-counts">
            <Counts counts={d.counts} notProven={d.climb.not_proven} excused={d.climb.excused} />
          </div>
          <p className="wall-words second">Next: {d.next}</p>
        </>
      )}
      {!d.climb && <p className="wall-words">It is {d.state}. Next: {d.next}</p>}
      {lost && (
        <div className="wall-lost" role="alert">
          <svg viewBox="0 0 100 100" preserveAspectRatio="none" aria-hidden="true">
            <path d="M0,100 L100,0 M0,0 L100,100" stroke="var(--brick)" strokeWidth={0.6} />
          </svg>
          <p>No connection since {clock.format(lost)}: this picture is old.</p>
        </div>
      )}
    </main>
  )
}
