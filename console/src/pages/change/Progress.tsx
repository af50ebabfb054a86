import type { ChangeDetail } from '../../api/client'
import { Ago, counted, inWords } from '../../ui/Ago'
import { ended, runStates } from '../../ui/StateMark'
import { useNow } from '../../ui/clock'

// Progress says in a line how long a climb has gone on, how fast hosts come through, and what it
// takes yet at the least.
export function Progress({ detail: d }: { detail: ChangeDetail }) {
  const now = useNow()
  const c = d.climb
  if (!c) return null
  const sum = (counts: { [state: string]: number }, of: (state: (typeof runStates)[number]) => boolean) => runStates.filter(of).reduce((n, s) => n + (counts[s] ?? 0), 0)
  const all = sum(d.counts, () => true)
  const through = sum(d.counts, ended)
  if (c.ended_at)
    return (
      <p className="second">
        Begun <Ago at={c.started_at} /> by {c.started_by}; it took {inWords(1e6 * (Date.parse(c.ended_at) - Date.parse(c.started_at)))}.
      </p>
    )
  const took = Math.max(1000, now - Date.parse(c.started_at))
  const left = c.returns
    ? 0
    : c.rungs.reduce((n, r) => {
        const stage = d.rehearsal?.plan?.stages.find((s) => s.stage === r.stage)
        const open = sum(r.counts, (s) => !ended(s))
        return n + (stage && r.hosts > 0 ? (stage.least * open) / r.hosts : 0)
      }, 0)
  return (
    <p className="second">
      Begun <Ago at={c.started_at} /> by {c.started_by}; {through} of {counted(all, 'host')} through
      {c.state === 'running' && through > 0 && took > 20_000 && `, ${rate((through * 60_000) / took)}`}
      {left > 0 && `; at least ${inWords(left)} to go, gates and pauses apart`}.
    </p>
  )
}

function rate(perMinute: number): string {
  if (perMinute >= 10) return `${Math.round(perMinute)} a minute`
  if (perMinute * 60 >= 1) return `${Math.round(perMinute * 60)} an hour`
  return 'less than one an hour'
}
