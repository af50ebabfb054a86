import { useQuery } from '@tanstack/react-query'
import { latencies } from '../../api/queries'
import { counted, milliseconds } from '../../ui/Ago'

const width = 360
const row = 34

// Latencies draws how long answers to each probe took over the hosts, before above and after below:
// a line from the tenth to the ninetieth of a hundred, a bar at the middle.
export function Latencies({ id, climb, moves }: { id: number; climb: number; moves: boolean }) {
  const query = useQuery(latencies(id, climb, moves))
  const all = query.data ?? []
  if (all.length === 0) return null
  const most = Math.max(...all.flatMap((l) => [l.before.high, l.after.high]))
  const x = (ms: number) => 200 + (ms / most) * width
  const line = (y: number, s: (typeof all)[number]['before'], dash?: string) => (
    <>
      <path d={`M${x(s.low)},${y} H${x(s.high)}`} stroke="var(--ink)" strokeWidth={1.4} strokeDasharray={dash} />
      <path d={`M${x(s.middle)},${y - 5} v10`} stroke="var(--ink)" strokeWidth={dash ? 1.4 : 3} />
    </>
  )
  return (
    <figure className="course">
      <svg viewBox={`0 0 ${200 + width + 130} ${all.length * row + 4}`} role="img" aria-label={all.map((l) => `${l.probe}: ${milliseconds(l.before.middle)} before, ${milliseconds(l.after.middle)} after`).join('; ')}>
        {all.map((l, i) => (
          <g key={l.probe} transform={`translate(0,${i * row + 4})`}>
            <text x={0} y={16}>
              <title>{`${l.probe}, ${counted(l.hosts, 'host')}`}</title>
              {l.probe.length > 28 ? `${l.probe.slice(0, 27)}…` : l.probe}
            </text>
            {line(7, l.before, '3 2')}
            {line(20, l.after)}
            <text x={200 + width + 10} y={16}>
              {milliseconds(l.before.middle)} → {milliseconds(l.after.middle)}
            </text>
          </g>
        ))}
      </svg>
      <figcaption className="second">How long probes took to answer: before the change (dashed) and after. The line holds eight of ten hosts, the bar is the middle one</figcaption>
    </figure>
  )
}
