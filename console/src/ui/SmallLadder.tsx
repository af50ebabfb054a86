import type { Change, RunState } from '../api/client'
import { ended, illOf, runStates, Shape } from './StateMark'

const well: RunState[] = ['working', 'soaking', 'queued', 'done']

// SmallLadder is a climb 36 px high: a rung per stage, as wide as its hosts are many, filled as far
// as they are through, with the shape of the worst state beside it.
export function SmallLadder({ of }: { of: Pick<Change, 'rungs' | 'counts'> }) {
  const rungs = (of.rungs ?? []).slice(0, 9)
  const worst = illOf(of.counts) ?? well.find((s) => of.counts[s])
  if (rungs.length === 0) return <span className="second">–</span>
  const most = Math.max(...rungs.map((r) => r.hosts))
  const height = 36
  const step = (height - 6) / rungs.length
  const words = runStates.filter((s) => of.counts[s]).map((s) => `${of.counts[s]} ${s}`).join(', ')
  return (
    <svg className="small-ladder" viewBox={`0 0 62 ${height}`} width={62} height={height} role="img" aria-label={words}>
      <title>{words}</title>
      <path d={`M1,0 V${height} M41,0 V${height}`} stroke="var(--ink)" strokeWidth={1.5} />
      {rungs.map((r, i) => {
        const y = height - 4 - i * step
        const width = Math.max(4, (38 * r.hosts) / most)
        const left = runStates.reduce((n, s) => n + (ended(s) ? 0 : (r.counts[s] ?? 0)), 0)
        return (
          <g key={r.stage}>
            <path d={`M2,${y} h38`} stroke="var(--line)" strokeWidth={1.5} />
            <path d={`M2,${y} h${width}`} stroke="var(--second)" strokeWidth={2.5} />
            <path d={`M2,${y} h${(width * (r.hosts - left)) / r.hosts}`} stroke="var(--ink)" strokeWidth={4.5} />
          </g>
        )
      })}
      {worst && (
        <g transform={`translate(52,${height / 2})`}>
          <Shape state={worst} />
        </g>
      )}
    </svg>
  )
}
