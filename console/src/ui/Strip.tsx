import { Link } from 'react-router'
import type { Schemas } from '../api/client'

type Value = Schemas['ComparedValue']

const hatches = ['0', '1.5 2', '4 2', '1 1', '6 3 1 3', '2 5']

// Strip draws values to scale: a segment for each, told apart by pattern and word; of rare ones
// the hosts are named.
export function Strip({ of }: { of: Value[] }) {
  const all = of.reduce((n, v) => n + v.count, 0)
  const rare = Math.max(1, Math.floor(all / 10))
  const scale = 600 / Math.max(1, all)
  const placed = of.map((v, i) => ({ ...v, x: scale * of.slice(0, i).reduce((n, w) => n + w.count, 0), width: scale * v.count }))
  if (all === 0) return <p className="second">No host says anything of it.</p>
  return (
    <>
      <svg className="strip" viewBox="0 0 600 34" role="img" aria-label={of.map((v) => `${shown(v)} on ${v.count}`).join(', ')}>
        {placed.map((v, i) => (
          <g key={i}>
            <title>{`${shown(v)} on ${v.count}`}</title>
            <rect x={v.x} y={1} width={Math.max(2, v.width - 1)} height={18} fill="var(--raised)" stroke="var(--ink)" />
            <path d={`M${v.x + 1},10 h${Math.max(1, v.width - 3)}`} stroke="var(--spruce)" strokeWidth={i === 0 ? 16 : 8} strokeDasharray={hatches[i % hatches.length] === '0' ? undefined : hatches[i % hatches.length]} />
            {v.width > 40 && (
              <text x={v.x + 2} y={31}>
                {shown(v).slice(0, Math.floor(v.width / 7))}
              </text>
            )}
          </g>
        ))}
      </svg>
      <ul className="sentences">
        {of.map((v, i) => (
          <li key={i} className="wrap">
            <span className="mono">{shown(v)}</span> on {v.count}
            {v.count <= rare && (
              <>
                :{' '}
                {v.hosts.slice(0, 8).map((h, k) => (
                  <span key={h}>
                    {k > 0 && ', '}
                    <Link to={`/hosts/${encodeURIComponent(h)}`}>{h}</Link>
                  </span>
                ))}
              </>
            )}
          </li>
        ))}
      </ul>
    </>
  )
}

function shown(v: Value): string {
  return v.missing ? (v.value ? `not set, so ${v.value}` : 'not set') : v.value
}
