import type { Setting } from '../api/client'

export type FateOf = 'in force' | 'lost' | 'commented out' | 'unknown'

// fateOf says what becomes of a value that stands in a file.
export function fateOf(s: Setting): FateOf {
  if (s.commented_out) return 'commented out'
  if (s.in_force === 'won') return 'in force'
  return s.in_force === 'lost' ? 'lost' : 'unknown'
}

// Fate draws it: a filled square in force, a struck one lost, a hollow one commented out, a
// question mark unknown.
export function Fate({ of }: { of: FateOf }) {
  return (
    <svg className="mark" viewBox="-9 -9 18 18" role="img" aria-label={of}>
      {of === 'in force' && <rect x={-4.5} y={-4.5} width={9} height={9} fill="var(--leaf)" />}
      {of === 'lost' && (
        <>
          <rect x={-4.5} y={-4.5} width={9} height={9} fill="none" stroke="var(--brick)" strokeWidth={1.6} />
          <path d="M-7,7 L7,-7" stroke="var(--brick)" strokeWidth={1.8} />
        </>
      )}
      {of === 'commented out' && <rect x={-4.5} y={-4.5} width={9} height={9} fill="none" stroke="var(--second)" strokeWidth={1.4} strokeDasharray="2 1.5" />}
      {of === 'unknown' && (
        <text textAnchor="middle" y={5} fontSize={14} fill="var(--second)">
          ?
        </text>
      )}
    </svg>
  )
}
