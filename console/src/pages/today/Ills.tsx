import { useState } from 'react'
import { Link } from 'react-router'
import type { RunState, Today } from '../../api/client'
import { Ago, counted } from '../../ui/Ago'
import { StateMark } from '../../ui/StateMark'

type Unwell = Today['unwell'][number]

// said says what is not well with so many hosts, and gives the shape that stands for it.
const said: { [kind: string]: [shape: RunState, words: (hosts: string, one: boolean) => string] } = {
  stranded: ['stranded', (n, one) => `${n} ${one ? 'is' : 'are'} stranded and ${one ? 'needs' : 'need'} a person`],
  unknown: ['unknown', (n, one) => `${n} ${one ? 'was' : 'were'} lost sight of`],
  undone: ['restored', (n) => `${n} undid a change by the own guard`],
  restored: ['restored', (n, one) => `${n} ${one ? 'has its' : 'have their'} old files again, and nothing followed`],
  drifted: ['unknown', (n, one) => `${n} ${one ? 'is' : 'are'} not as ${one ? 'it was' : 'they were'} left`],
  unready: ['unknown', (n, one) => `${n} ${one ? 'has' : 'have'} something saved that is not in force`],
  unreached: ['passed-over', (n, one) => `${n} ${one ? 'was' : 'were'} not reached for a day`],
}

// Ills is a line each of what is not well, with its first hosts and why.
export function Ills({ unwell }: { unwell: Unwell[] }) {
  return (
    <section aria-label="Unwell">
      <h2>Unwell</h2>
      <ul className="rows">
        {unwell.map((u) => (
          <Ill key={u.kind} of={u} />
        ))}
      </ul>
    </section>
  )
}

function Ill({ of: u }: { of: Unwell }) {
  const [all, setAll] = useState(false)
  const [shape, words] = said[u.kind] ?? ['unknown', (n) => `${n}: ${u.kind}`]
  const shown = all ? u.hosts : u.hosts.slice(0, 3)
  return (
    <li data-ill={u.kind}>
      <div>
        <StateMark state={shape} /> {words(counted(u.count, 'host'), u.count === 1)}
        <span className="second">
          , since <Ago at={u.since} />
        </span>
      </div>
      <ul className="ills">
        {shown.map((h) => (
          <li key={h.host} className="wrap">
            <Link to={h.change && u.kind !== 'drifted' ? `/changes/${h.change}?host=${encodeURIComponent(h.host)}#rollout` : `/hosts/${encodeURIComponent(h.host)}`}>{h.host}</Link>
            {h.why && <span className="second">: {h.why}</span>}
          </li>
        ))}
      </ul>
      {!all && u.hosts.length > shown.length && (
        <button type="button" className="plain-button" onClick={() => setAll(true)}>
          {u.count - shown.length} more{u.count > u.hosts.length ? `, of which ${u.hosts.length - shown.length} are named` : ''}
        </button>
      )}
    </li>
  )
}
