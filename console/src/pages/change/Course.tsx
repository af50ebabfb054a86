import { useQuery } from '@tanstack/react-query'
import type { RunState } from '../../api/client'
import { course } from '../../api/queries'
import { runStates, Shape } from '../../ui/StateMark'

const width = 640
const height = 120
const right = 120

const dashes: { [state in RunState]: string } = { queued: '2 3', working: '', soaking: '6 3', done: '', restoring: '1 2', restored: '8 2 2 2', unknown: '3 1', stranded: '', 'passed-over': '5 5' }
const strong: RunState[] = ['done', 'stranded', 'restored']
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })

// Course draws hosts by state over the time of a climb: a line each, told apart by its dashes and the
// shape at its end, so that it reads without colour.
export function Course({ id, climb, moves }: { id: number; climb: number; moves: boolean }) {
  const query = useQuery(course(id, climb, moves))
  const all = query.data ?? []
  const first = all[0]
  const last = all.at(-1)
  if (!first || !last || all.length < 2) return null
  const from = Date.parse(first.at)
  const span = Math.max(1, Date.parse(last.at) - from)
  const most = Math.max(...all.flatMap((p) => Object.values(p.counts)))
  const x = (at: string) => ((Date.parse(at) - from) / span) * width
  const y = (n: number) => height - (n / most) * (height - 8)
  const states = runStates.filter((s) => all.some((p) => p.counts[s]))
  const ends = spread(states.map((s) => y(last.counts[s] ?? 0)))
  return (
    <figure className="course">
      <svg viewBox={`-4 -6 ${width + right} ${height + 26}`} role="img" aria-label={`Hosts by state over time: at the end ${states.map((s) => `${last.counts[s] ?? 0} ${s}`).join(', ')}`}>
        <path d={`M0,0 V${height} H${width}`} stroke="var(--line)" fill="none" />
        <text x={0} y={height + 16}>
          {clock.format(new Date(first.at))}
        </text>
        <text x={width} y={height + 16} textAnchor="end">
          {clock.format(new Date(last.at))}
        </text>
        {states.map((s, i) => (
          <g key={s}>
            <path
              d={all.map((p, k) => `${k ? `H${x(p.at).toFixed(1)} V` : `M${x(p.at).toFixed(1)},`}${y(p.counts[s] ?? 0).toFixed(1)}`).join(' ')}
              fill="none"
              stroke="var(--ink)"
              strokeWidth={strong.includes(s) ? 2.2 : 1.2}
              strokeDasharray={dashes[s]}
            />
            <g transform={`translate(${width + 12},${ends[i]})`}>
              <Shape state={s} />
              <text x={12} y={4}>
                {last.counts[s] ?? 0} {s}
              </text>
            </g>
          </g>
        ))}
      </svg>
      <figcaption className="second">Hosts by state over time ({Intl.DateTimeFormat().resolvedOptions().timeZone})</figcaption>
    </figure>
  )
}

// spread moves labels apart that would lie on each other: down from the top, then up from the foot.
function spread(at: number[]): number[] {
  const order = at.map((y, i) => ({ y, i })).sort((a, b) => a.y - b.y)
  const out: number[] = []
  let edge = -Infinity
  for (const { y, i } of order) out[i] = edge = Math.max(y, edge + 15)
  edge = height + 15
  for (const { i } of order.reverse()) out[i] = edge = Math.min(out[i] ?? 0, edge - 15)
  return out
}
