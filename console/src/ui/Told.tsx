import { useState } from 'react'
import { Link } from 'react-router'
import type { Sentence } from '../api/client'
import { Ago } from './Ago'

// toOf gives the page of what an entry of the record is about.
function toOf(e: Sentence): string | undefined {
  const [kind, name = ''] = e.subject.split(/\/(.*)/s)
  if (e.change) return `/changes/${e.change}${kind === 'host' ? `?host=${encodeURIComponent(name)}` : ''}`
  if (kind === 'host') return `/hosts/${encodeURIComponent(name)}`
  if (kind === 'service') return `/services/${encodeURIComponent(name)}`
  return undefined
}

// Told is entries of the record as sentences, with their data on demand.
export function Told({ entries, data }: { entries: Sentence[]; data?: boolean }) {
  return (
    <ol className="told">
      {entries.map((e) => (
        <Entry key={e.seq} of={e} data={data} />
      ))}
    </ol>
  )
}

function Entry({ of: e, data }: { of: Sentence; data?: boolean }) {
  const [open, setOpen] = useState(false)
  const to = toOf(e)
  return (
    <li className="wrap" data-seq={e.seq}>
      <span className="second">
        <Ago at={e.at} />
      </span>{' '}
      <span>
        {e.says}
        {to && (
          <>
            {' '}
            <Link to={to} aria-label={`Open what entry ${e.seq} is about`}>
              open
            </Link>
          </>
        )}
        {data && (
          <>
            {' '}
            <button type="button" className="plain-button" aria-expanded={open} onClick={() => setOpen(!open)}>
              no. {e.seq}
            </button>
          </>
        )}
      </span>
      {open && <pre className="mono wrap">{JSON.stringify({ at: e.at, actor: e.actor, kind: e.kind, subject: e.subject, body: e.body, prev: e.prev, hash: e.hash }, null, 2)}</pre>}
    </li>
  )
}
