import type { RunState } from '../api/client'

// Shape draws a host run's state around the origin, 12 units wide: a shape
// first, a colour second.
export function Shape({ state }: { state: RunState }) {
  switch (state) {
    case 'queued':
      return <circle r={3.5} fill="none" stroke="var(--second)" strokeWidth={1.5} />
    case 'working':
      return (
        <g className="turning">
          <circle r={5.2} fill="none" stroke="var(--tide)" strokeWidth={1.6} />
          <path d="M0,-5.2 A5.2,5.2 0 0 1 0,5.2 Z" fill="var(--tide)" />
        </g>
      )
    case 'soaking':
      return (
        <>
          <circle r={5.2} fill="none" stroke="var(--dusk)" strokeWidth={1.8} />
          <circle r={2} fill="var(--dusk)" />
        </>
      )
    case 'done':
      return <rect x={-5.2} y={-5.2} width={10.4} height={10.4} rx={2} fill="var(--leaf)" />
    case 'restoring':
      return (
        <>
          <path d="M0,-6.4 L6.4,0 L0,6.4 L-6.4,0 Z" fill="none" stroke="var(--ochre)" strokeWidth={1.6} />
          <path d="M0,-6.4 L0,6.4 L-6.4,0 Z" fill="var(--ochre)" />
        </>
      )
    case 'restored':
      return <path d="M0,-6.4 L6.4,0 L0,6.4 L-6.4,0 Z" fill="var(--ochre)" />
    case 'unknown':
      return (
        <>
          <path d="M-5,-1.6 V-5 H5 V5 H-5 V1.6" fill="none" stroke="var(--second)" strokeWidth={1.8} />
          <circle r={1.8} fill="var(--second)" />
        </>
      )
    case 'stranded':
      return <path d="M0,-8 L8,6.4 L-8,6.4 Z" fill="var(--brick)" />
    case 'passed-over':
      return <path d="M-5,0 H5" stroke="var(--second)" strokeWidth={2.4} />
  }
}

export function StateMark({ state }: { state: RunState }) {
  return (
    <svg className="mark" viewBox="-9 -9 18 18" role="img" aria-label={state}>
      <Shape state={state} />
    </svg>
  )
}

// ended tells whether nothing more becomes of a host in its climb by itself.
export function ended(s: RunState): boolean {
  return s === 'done' || s === 'restored' || s === 'stranded' || s === 'passed-over'
}

const ills: RunState[] = ['stranded', 'unknown', 'restoring', 'restored', 'passed-over']

// illOf is the worst state that hosts are in, and that somebody has to look at; undefined where
// none is.
export function illOf(counts: { [state: string]: number }): RunState | undefined {
  return ills.find((s) => counts[s])
}

export const runStates: RunState[] = ['queued', 'working', 'soaking', 'done', 'restoring', 'restored', 'unknown', 'stranded', 'passed-over']

// Counts says how many hosts stand in each state, by shape, number and word.
// Of those that are done some may be not proven; others may fail, and count for nothing.
export function Counts({ counts, notProven = 0, excused = {} }: { counts: { [state: string]: number }; notProven?: number; excused?: { [state: string]: number } }) {
  const present = runStates.filter((s) => counts[s])
  if (present.length === 0) return <span className="second">–</span>
  return (
    <ul className="legend" style={{ margin: 0 }}>
      {present.map((s) => (
        <li key={s}>
          <StateMark state={s} /> {counts[s]} {s}
          {s === 'done' && notProven > 0 && `, ${notProven} of them not proven`}
          {excused[s] ? `, ${excused[s]} of them may fail` : ''}
        </li>
      ))}
    </ul>
  )
}
