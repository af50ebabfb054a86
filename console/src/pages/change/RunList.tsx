import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import type { RunState } from '../../api/client'
import { runsIn, runsPage } from '../../api/queries'
import { Pages } from '../../ui/Pages'
import { StateMark } from '../../ui/StateMark'
import { Problem, Waiting } from '../../ui/States'

// RunList lists the hosts of a climb that stand in a state, by the page.
export function RunList({ id, state, onChoose, onClose }: { id: number; state: RunState; onChoose: (host: string) => void; onClose: () => void }) {
  const [after, setAfter] = useState(0)
  const query = useQuery(runsIn(id, state, after))
  const all = query.data?.runs ?? []
  const last = all.at(-1)
  return (
    <section aria-label={`Hosts that are ${state}`} className="run-list">
      <div className="titled">
        <h3>
          <StateMark state={state} /> {state}
        </h3>
        <button type="button" className="plain-button" onClick={onClose}>
          Close the list
        </button>
      </div>
      {query.error && <Problem error={query.error} again={() => void query.refetch()} />}
      {query.isPending && <Waiting what="hosts" />}
      {query.data && all.length === 0 && <p className="second">None is any more.</p>}
      <ul>
        {all.map((r) => (
          <li key={r.id}>
            <button type="button" className="plain-button" onClick={() => onChoose(r.host)}>
              {r.host}
            </button>
            {r.why && r.state !== 'done' && <span className="second wrap"> {r.why}</span>}
          </li>
        ))}
      </ul>
      <Pages first={after > 0 && { words: 'From the beginning', go: () => setAfter(0) }} next={last !== undefined && all.length === runsPage && { words: 'Further ones', go: () => setAfter(last.id) }} />
    </section>
  )
}
