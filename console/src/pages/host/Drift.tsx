import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import { Link } from 'react-router'
import type { Schemas } from '../../api/client'
import { lookForDrift } from '../../api/queries'
import { Ago } from '../../ui/Ago'

// Drift says what is not as it was left on a host, and what is saved and not in force.
export function Drift({ of: d, name, mayLook }: { of: Schemas['Drift']; name: string; mayLook: boolean }) {
  const cache = useQueryClient()
  const look = useMutation({ mutationFn: () => lookForDrift(`name == ${JSON.stringify(name)}`), onSettled: () => cache.invalidateQueries() })
  const well = d.paths.length === 0 && d.unready.length === 0
  return (
    <section aria-label="Drift">
      <h2>As it was left?</h2>
      {d.looked + d.not_looked === 0 && <p className="second">Nothing of ours stands on it.</p>}
      {d.not_looked > 0 && <p className="second">Nobody has looked yet.</p>}
      {d.looked > 0 && well && <p>All files are as they were left, and in force.</p>}
      <ul className="sentences">
        {d.paths.map((p) => (
          <li key={p.path} className="wrap">
            <span className="mono">{p.path}</span> {p.words}, since <Ago at={p.since} />; placed by <Link to={`/changes/${p.change}`}>change {p.change}</Link>
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
