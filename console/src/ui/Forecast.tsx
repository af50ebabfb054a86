import type { Outline } from '../api/client'
import { inWords } from './Ago'

const width = 640

// Forecast is a strip of time: a stage each, as long as it takes at least; a line for what is out at
// most, a bar for a gate.
export function Forecast({ plan }: { plan: Outline }) {
  const all = plan.stages.reduce((n, s) => n + s.least, 0)
  if (all <= 0) return null
  const starts = plan.stages.map((_, i) => (plan.stages.slice(0, i).reduce((n, s) => n + s.least, 0) / all) * width)
  return (
    <figure className="course" aria-label="Forecast">
      <svg viewBox={`-4 0 ${width + 8} 42`} role="img" aria-label={plan.stages.map((s) => `stage ${s.stage + 1}: ${s.hosts.count} hosts, at least ${inWords(s.least)}, ${Math.min(s.at_once ?? plan.at_once, s.hosts.count)} out at once at most`).join('; ')}>
        {plan.stages.map((s, i) => {
          const w = (s.least / all) * width
          const out = Math.min(s.at_once ?? plan.at_once, s.hosts.count)
          return (
            <g key={s.stage}>
              <title>{`stage ${s.stage + 1}: ${s.hosts.count} hosts, at least ${inWords(s.least)}, ${out} out at once at most`}</title>
              <rect x={starts[i]} y={4} width={Math.max(2, w - 2)} height={18} fill="var(--raised)" stroke="var(--ink)" />
              <path d={`M${(starts[i] ?? 0) + 1},${22 - (16 * out) / Math.max(1, Math.min(plan.at_once, s.hosts.count))} h${Math.max(1, w - 4)}`} stroke="var(--tide)" strokeWidth={2} />
              {s.gate && <path d={`M${starts[i]},0 v26`} stroke="var(--ochre)" strokeWidth={4} />}
              {w > 110 && (
                <text x={(starts[i] ?? 0) + 3} y={38}>
                  {s.stage + 1}: {inWords(s.least)}, {out} out
                </text>
              )}
            </g>
          )
        })}
      </svg>
    </figure>
  )
}
