import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import { useState } from 'react'
import type { Account } from '../../api/client'
import { askForPolicy, policy, receivers, requests, secrets } from '../../api/queries'
import { Ago, counted } from '../../ui/Ago'
import { Numbered } from '../../ui/Numbered'
import { Problem } from '../../ui/States'

// Policy is what holds for every change, as two admins agreed on it.
export function Policy({ me }: { me: Account }) {
  const query = useQuery(policy())
  const [text, setText] = useState<string>()
  const p = query.data
  return (
    <section id="policy" aria-label="Policy">
      <h2>Policy</h2>
      {query.error && <Problem error={query.error} />}
      {p && !p.version && <p>Nobody has written one: a change wants one approval by a reviewer who is not its author, which lasts for a week. There is no window and no freeze.</p>}
      {p && p.version > 0 && (
        <>
          <p>
            Version {p.version}, asked for by {p.loaded_by}, agreed to by {p.agreed_by}, <Ago at={p.at} />. An admin asks for another one; a second one sees what it changes and agrees.
          </p>
          {text === undefined && <Numbered text={p.source} label="The policy, as YAML" />}
        </>
      )}
      {p && me.roles.includes('admin') && (text === undefined ? <Button onClick={() => setText(p.source)}>Write another policy</Button> : <Another text={text} onText={setText} basis={p.source} />)}
    </section>
  )
}

// Another is a policy that is being written, for a second admin to agree to.
function Another({ text, onText, basis }: { text: string; onText: (text: string | undefined) => void; basis: string }) {
  const cache = useQueryClient()
  const go = useMutation({
    mutationFn: () => askForPolicy(text),
    onSuccess: () => {
      onText(undefined)
      return cache.invalidateQueries({ queryKey: requests(true).queryKey })
    },
  })
  return (
    <>
      <textarea className="go-field mono" aria-label="Another policy, as YAML" rows={Math.min(40, text.split('\n').length + 3)} spellCheck={false} value={text} onChange={(e) => onText(e.target.value)} />
      {go.error && <Alert type="error" title={<span className="wrap">{go.error.message}</span>} />}
      <div className="buttons">
        <Button type="primary" disabled={text.trim() === '' || text === basis} loading={go.isPending} onClick={() => go.mutate()}>
          Ask a second admin to agree
        </Button>
        <Button onClick={() => onText(undefined)}>Leave it as it is</Button>
      </div>
    </>
  )
}

// Secrets are named here, and where they may go; their values never leave the server but to hosts.
export function Secrets() {
  const query = useQuery(secrets())
  return (
    <section id="secrets" aria-label="Secrets">
      <h2>Secrets, by name</h2>
      {query.error && <Problem error={query.error} />}
      {query.data?.length === 0 && <p className="second">No secret is kept. An admin keeps one with wladder secret.</p>}
      <ul className="rows">
        {query.data?.map((s) => (
          <li key={s.name} className="wrap">
            <span className="mono">{s.name}</span>, version {s.version}, kept by {s.by} <Ago at={s.at} />
            <br />
            <span className="second">{s.binding ? `may go to ${s.binding.services.join(', ') || 'no service'}${s.binding.hosts ? ` on hosts where ${s.binding.hosts}` : ''}${s.binding.probes.length > 0 ? `, and into probes of ${s.binding.probes.join(', ')}` : ''}` : 'may go nowhere yet'}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}

// Receivers are those who are told of what asks for people.
export function Receivers() {
  const query = useQuery(receivers())
  return (
    <section id="receivers" aria-label="Who is told">
      <h2>Who is told</h2>
      {query.error && <Problem error={query.error} />}
      {query.data?.length === 0 && <p className="second">Nobody is told by webhook or mail: the server was started without receivers.</p>}
      <ul className="rows">
        {query.data?.map((r) => (
          <li key={r.name} className="wrap">
            {r.name}, <span className="mono">{r.to}</span>
            <br />
            <span className="second">
              {r.waiting > 0 ? `${counted(r.waiting, 'message')} ${r.waiting === 1 ? 'waits' : 'wait'}` : 'nothing waits'}
              {r.told_at && (
                <>
                  , last told <Ago at={r.told_at} />
                </>
              )}
              {r.error && `; the last try failed: ${r.error}`}
              {r.lost > 0 && `; ${r.lost} given up after a day`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
