import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import type { Account, Schemas } from '../../api/client'
import { acceptDrift, draft, drifted, lookForDrift } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { AskWhy } from '../../ui/AskWhy'
import { Diff } from '../../ui/Diff'
import { Problem } from '../../ui/States'

// Drift says what is not as it was left on a host, and what is saved and not in force.
export function Drift({ of: d, name, me }: { of: Schemas['Drift']; name: string; me: Account }) {
  const mayLook = me.roles.includes('operator')
  const cache = useQueryClient()
  const look = useMutation({ mutationFn: () => lookForDrift(`name == ${JSON.stringify(name)}`), onSettled: () => cache.invalidateQueries() })
  const well = d.paths.length === 0 && d.unready.length === 0
  return (
    <section aria-label="Drift">
      <h2>As it was left?</h2>
      {d.looked + d.not_looked === 0 && <p className="second">None of our changes is on it.</p>}
      {d.not_looked > 0 && <p className="second">Nobody has looked yet.</p>}
      {d.looked > 0 && well && <p>All files are as they were left, and in force.</p>}
      <ul className="sentences">
        {d.paths.map((p) => (
          <li key={p.path} className="wrap">
            <span className="mono">{p.path}</span> {p.words}, since <Ago at={p.since} />; placed by <Link to={`/changes/${p.change}`}>change {p.change}</Link>
            <OfPath of={p} me={me} />
          </li>
        ))}
        {d.unready.map((u) => (
          <li key={u.what} className="wrap">
            Saved and not in force: {u.what}
          </li>
        ))}
      </ul>
      {d.oldest && (
        <p className="second">
          Looked at <Ago at={d.oldest} />.
        </p>
      )}
      {mayLook && (
        <Button size="small" loading={look.isPending} onClick={() => look.mutate()}>
          Look now
        </Button>
      )}
      {look.error && <Alert type="error" title={look.error.message} />}
    </section>
  )
}

// OfPath shows what differs at a path, and what may be done about it: have it stay, or put it back as
// a change.
function OfPath({ of: p, me }: { of: Schemas['Drifted']; me: Account }) {
  const cache = useQueryClient()
  const go = useNavigate()
  const [asks, setAsks] = useState(false)
  const see = useMutation({ mutationFn: () => drifted({ host: p.host, path: p.path }) })
  const accept = useMutation({
    mutationFn: (because: string) => acceptDrift({ host: p.host, path: p.path, because }),
    onSuccess: () => {
      setAsks(false)
      return cache.invalidateQueries()
    },
  })
  const back = useMutation({
    mutationFn: (found: Schemas['DriftedPath']) => draft(putBack(found)),
    onSuccess: (made) => go(`/changes/${made.id}`),
  })
  const found = see.data
  return (
    <>
      <div className="deeds">
        {['author', 'reviewer', 'operator'].some((r) => me.roles.includes(r)) && (
          <Button size="small" loading={see.isPending} onClick={() => see.mutate()}>
            What differs
          </Button>
        )}
        {me.roles.includes('operator') && (
          <Button size="small" loading={accept.isPending} onClick={() => setAsks(true)}>
            Have it stay so
          </Button>
        )}
      </div>
      {[see.error, back.error].map((error, i) => error && <Problem key={i} error={error} />)}
      {found && (
        <>
          {found.diff ? <Diff text={found.diff} /> : !found.why && <p>It holds again what we left there; look once more.</p>}
          {found.why && <p className="second">No edits put it back: {found.why}.</p>}
          {found.edits && me.roles.includes('author') && (
            <Button size="small" loading={back.isPending} onClick={() => back.mutate(found)}>
              Draft a change that puts it back
            </Button>
          )}
        </>
      )}
      {asks && (
        <AskWhy title={`Keep ${p.path} as it is now?`} ok="Have it stay so" pending={accept.isPending} error={accept.error} onOk={(because) => accept.mutate(because)} onCancel={() => setAsks(false)}>
          On {p.host} it counts as drifted again once it stands otherwise than now. Nothing is changed there.
        </AskWhy>
      )}
    </>
  )
}

// putBack writes the change that puts a path back as it was left.
function putBack(d: Schemas['DriftedPath']): string {
  const said = JSON.stringify
  return `title: ${said(`Put ${d.path} back on ${d.host}`)}
reason: ${said(`Somebody edited it since change ${d.change} left it there.`)}
service: ${d.service}
where: ${said(`name == ${said(d.host)}`)}
count: 1
edits:
${d.edits}ladder: {stages: [{hosts: all}], at_once: 1}
`
}
