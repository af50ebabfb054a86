import { useQuery } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Account, Host } from '../../api/client'
import { changes, drift, host, hostServices, told } from '../../api/queries'
import { Ago, counted, Day } from '../../ui/Ago'
import { Page } from '../../ui/Page'
import { StateMark } from '../../ui/StateMark'
import { Problem, Waiting } from '../../ui/States'
import { Told } from '../../ui/Told'
import { Aside } from './Aside'
import { Drift } from './Drift'
import { Files, type Chosen } from './Files'
import { HostKey } from './HostKey'
import { Value } from './Value'

export function HostPage({ me }: { me: Account }) {
  const name = useParams().name ?? ''
  const query = useQuery(host(name))
  const [chosen, setChosen] = useState<Chosen>()
  const [sets, setSets] = useState(false)
  const h = query.data
  const may = (role: string) => me.roles.includes(role)
  if (!h)
    return (
      <Page title={name} help="console#host">
        {query.error ? <Problem error={query.error} again={() => void query.refetch()} /> : <Waiting what={name} />}
      </Page>
    )
  return (
    <Page
      title={h.name}
      over="Host"
      help="console#host"
      action={
        may('operator') && (
          <div className="action">
            <div className="buttons">
              <Button onClick={() => setSets(true)}>{h.aside_because ? 'Take it back…' : 'Set it aside…'}</Button>
            </div>
            {h.aside_because && (
              <span className="second wrap">
                Set aside by {h.aside_by}
                {h.aside_until && (
                  <>
                    {' '}
                    until <Day at={h.aside_until} />
                  </>
                )}
                : {h.aside_because}
              </span>
            )}
          </div>
        )
      }
    >
      <Traits of={h} />
      <div className="work">
        <div>
          {may('admin') && !h.host_key && <HostKey name={h.name} />}
          {h.missed_at && (
            <p role="status">
              Not reached since <Ago at={h.missed_at} />: <span className="wrap">{h.missed_why}</span>
            </p>
          )}
          <Services name={h.name} may={may('author') || may('reviewer') || may('operator')} chosen={chosen} onChoose={setChosen} />
          <History name={h.name} />
        </div>
        <aside>
          {chosen && <Value host={h.name} of={chosen} />}
          <DriftHere name={h.name} me={me} />
          {may('admin') && h.host_key && <HostKey name={h.name} />}
        </aside>
      </div>
      {sets && <Aside host={h} onClose={() => setSets(false)} />}
    </Page>
  )
}

function Traits({ of: h }: { of: Host }) {
  const labels = Object.entries(h.labels).sort()
  const t = h.traits
  return (
    <p className="traits">
      <span className="mono">{h.login}@{h.address}</span>
      {h.via && <> by way of <Link to={`/hosts/${encodeURIComponent(h.via)}`}>{h.via}</Link></>}
      {t.os ? ` · ${t.os} ${t.os_version} · ${counted(t.cores, 'core')} · ${Math.round(t.memory / 2 ** 20)} MiB` : ' · not surveyed yet'}
      {t.kernel && ` · Linux ${t.kernel}`}
      {h.surveyed_at && <> · seen <Ago at={h.surveyed_at} /></>}
      {labels.length > 0 && <> · <span className="mono">{labels.map(([k, v]) => `${k}=${v}`).join(' ')}</span></>}
    </p>
  )
}

function Services({ name, may, chosen, onChoose }: { name: string; may: boolean; chosen?: Chosen; onChoose: (c: Chosen) => void }) {
  const query = useQuery(hostServices(name))
  return (
    <section aria-label="Services here">
      <h2>Services here</h2>
      {query.error && <Problem error={query.error} again={() => void query.refetch()} />}
      {query.isPending && <Waiting what="its services" />}
      {query.data?.length === 0 && <p className="second">No definition in force says that this host carries its service. A survey finds what definitions look for.</p>}
      {query.data?.map((s) => (
        <section className="group" key={s.service} aria-label={s.service} data-service={s.service}>
          <header>
            <Link to={`/services/${encodeURIComponent(s.service)}`}>{s.service}</Link>
            <span className="second">{s.title}</span>
            <span>
              {s.last ? (
                <>
                  <StateMark state={s.last.state} /> {s.last.state}, <Link to={`/changes/${s.last.change}?host=${encodeURIComponent(name)}#rollout`}>change {s.last.change}</Link>, <Ago at={s.last.at} />
                  {s.last.state !== 'done' && s.last.why && <span className="wrap">: {s.last.why}</span>}
                </>
              ) : (
                <span className="second">no climb has touched it</span>
              )}
            </span>
          </header>
          {may ? <Files host={name} service={s.service} chosen={chosen} onChoose={onChoose} /> : <p className="second whole">Authors, reviewers and operators may have its files read: that takes a connection to the host.</p>}
        </section>
      ))}
    </section>
  )
}

function DriftHere({ name, me }: { name: string; me: Account }) {
  const query = useQuery(drift(name))
  return query.data ? <Drift of={query.data} name={name} me={me} /> : null
}

function History({ name }: { name: string }) {
  const all = useQuery(changes({ host: name, limit: 50 }))
  const entries = useQuery(told({ host: name, limit: 20 }))
  return (
    <section aria-label="What happened to it">
      <h2>Changes that touch it</h2>
      {all.data?.length === 0 && <p className="second">No change has been rehearsed on this host.</p>}
      <ul className="rows">
        {all.data?.map((c) => (
          <li key={c.id} className="wait-row">
            <Link to={`/changes/${c.id}?host=${encodeURIComponent(name)}`}>{c.title}</Link>
            <span className="second">
              change {c.id}, {c.state}, <Ago at={c.updated_at} />
            </span>
          </li>
        ))}
      </ul>
      <h2>What the record tells of it</h2>
      {entries.data?.length === 0 && <p className="second">Nothing yet.</p>}
      {entries.data && <Told entries={entries.data} data />}
    </section>
  )
}
