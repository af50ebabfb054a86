import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import type { ChangeDetail } from '../../api/client'
import { differences } from '../../api/queries'
import { counted } from '../../ui/Ago'
import { Choice } from '../../ui/Sentence'
import { Problem, Waiting } from '../../ui/States'

// Since says leaf by leaf what is new since another plan of the change, which people spoke of.
export function Since({ detail: d, digest }: { detail: ChangeDetail; digest: string }) {
  const known = [...new Set([...d.approvals.map((a) => a.digest), ...(d.review.comments ?? []).map((c) => c.digest)])].filter((k) => k && k !== digest)
  const [from, setFrom] = useState('')
  const query = useQuery(differences(d.id, from, digest))
  if (known.length === 0) return null
  return (
    <div>
      <p className="filter">
        What is new since{' '}
        <Choice label="Another plan" value={from} any="another plan" of={known.map((k): [string, string] => [k, k.slice(0, 12)])} onChange={setFrom} />
      </p>
      {query.error && <Problem error={query.error} />}
      {from && query.isPending && <Waiting what="both plans" />}
      {query.data && (
        <ul className="sentences">
          {query.data.differences.length === 0 && <li>Nothing: both come to the same.</li>}
          {query.data.differences.map((one, i) => (
            <li key={i} className="wrap">
              {one.hosts.length > 0 && (
                <b>
                  {counted(one.hosts.length, 'host')} {one.kind}:{' '}
                </b>
              )}
              {one.what.join('; ')} {one.hosts.length > 0 && <span className="second">{one.hosts.slice(0, 6).join(', ')}{one.hosts.length > 6 && ` and ${one.hosts.length - 6} more`}</span>}
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}
