import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Input } from 'antd'
import { useState } from 'react'
import { useParams, useSearchParams } from 'react-router'
import type { Account, ServiceParts } from '../../api/client'
import { approveService, loadService, serviceParts, withdrawService } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { AskWhy } from '../../ui/AskWhy'
import { Diff } from '../../ui/Diff'
import { Numbered } from '../../ui/Numbered'
import { Page } from '../../ui/Page'
import { Problem, Waiting } from '../../ui/States'
import { CompareHosts, Fleet } from './Fleet'
import { Parts } from './Parts'

export function ServicePage({ me }: { me: Account }) {
  const name = useParams().name ?? ''
  const [params, setParams] = useSearchParams()
  const view = params.get('view') === 'yaml' ? 'yaml' : 'parts'
  const newest = useQuery(serviceParts(name, 0))
  const s = newest.data?.service
  if (!newest.data || !s)
    return (
      <Page title={name} help="console#service">
        {newest.error ? <Problem error={newest.error} again={() => void newest.refetch()} /> : <Waiting what={`the definition of ${name}`} />}
      </Page>
    )
  const waits = s.version !== s.in_force && !s.withdrawn_by
  const looks = me.roles.some((r) => ['author', 'reviewer', 'operator'].includes(r))
  const show = (next: string) =>
    setParams((before) => {
      const p = new URLSearchParams(before)
      if (next === 'parts') p.delete('view')
      else p.set('view', next)
      return p
    })
  return (
    <Page title={s.name} over={s.title} help="console#service" action={<Actions of={newest.data} me={me} />}>
      <p>
        {s.in_force ? `Version ${s.in_force} is in force.` : 'No version is in force: it serves no host.'} {waits && `Version ${s.version}, loaded by ${s.loaded_by}, waits for another admin.`}
        {s.withdrawn_by && `Version ${s.version} was withdrawn by ${s.withdrawn_by}: ${s.withdrawn_because}`}{' '}
        <span className="second">
          Loaded <Ago at={s.loaded_at} />
          {s.approved_at && (
            <>
              , approved by {s.approved_by} <Ago at={s.approved_at} />
            </>
          )}
          .
        </span>
      </p>
      {waits && newest.data.difference && (
        <section className="group" aria-label="Difference to the version in force">
          <header>
            <span>What version {s.version} changes</span>
          </header>
          <Diff text={newest.data.difference} />
        </section>
      )}
      <div className="words" role="group" aria-label="How the definition is shown">
        <button type="button" aria-pressed={view === 'parts'} onClick={() => show('parts')}>
          Parts
        </button>
        <button type="button" aria-pressed={view === 'yaml'} onClick={() => show('yaml')}>
          YAML
        </button>
      </div>
      {view === 'parts' ? <Parts of={newest.data} /> : <Source of={newest.data} mayEdit={me.roles.includes('admin')} />}
      {looks && s.in_force > 0 && (
        <>
          <Fleet of={newest.data} />
          <CompareHosts service={s.name} />
        </>
      )}
    </Page>
  )
}

function Actions({ of: p, me }: { of: ServiceParts; me: Account }) {
  const s = p.service
  const cache = useQueryClient()
  const [withdraws, setWithdraws] = useState(false)
  const again = () => Promise.all([cache.invalidateQueries({ queryKey: ['service', s.name] }), cache.invalidateQueries({ queryKey: ['services'] })])
  const approve = useMutation({ mutationFn: () => approveService(s.name, s.digest), onSettled: again })
  const withdraw = useMutation({
    mutationFn: (because: string) => withdrawService(s.name, s.digest, because),
    onSuccess: () => {
      setWithdraws(false)
      return again()
    },
  })
  if (!me.roles.includes('admin')) return null
  const approvable = !s.approved_by && !s.withdrawn_by && s.loaded_by !== me.name
  return (
    <div className="action">
      <div className="buttons">
        {approvable && (
          <Button type="primary" loading={approve.isPending} onClick={() => approve.mutate()}>
            Approve version {s.version}
          </Button>
        )}
        {s.approved_by && !s.withdrawn_by && (
          <Button danger onClick={() => setWithdraws(true)}>
            Withdraw…
          </Button>
        )}
      </div>
      {approvable && <span className="second">Its commands run as root on hosts that carry it. Read them below.</span>}
      {!s.approved_by && s.loaded_by === me.name && <span className="second">You loaded it: another admin has to approve it.</span>}
      {approve.error && <Alert type="error" title={approve.error.message} />}
      {withdraws && (
        <AskWhy title={`Withdraw version ${s.version} of ${s.name}?`} ok="Withdraw it" danger pending={withdraw.isPending} error={withdraw.error} onOk={(because) => withdraw.mutate(because)} onCancel={() => setWithdraws(false)}>
          It serves no host any more, and climbs that use it pause.
        </AskWhy>
      )}
    </div>
  )
}

function Source({ of: p, mayEdit }: { of: ServiceParts; mayEdit: boolean }) {
  const cache = useQueryClient()
  const [text, setText] = useState<string>()
  const load = useMutation({
    mutationFn: () => loadService(text ?? ''),
    onSuccess: () => {
      setText(undefined)
      return Promise.all([cache.invalidateQueries({ queryKey: ['service', p.service.name] }), cache.invalidateQueries({ queryKey: ['services'] })])
    },
  })
  if (text === undefined)
    return (
      <>
        <Numbered text={p.service.source ?? ''} label="The definition, as YAML" />
        {mayEdit && <Button onClick={() => setText(p.service.source ?? '')}>Edit it as a new version</Button>}
      </>
    )
  return (
    <>
      <Input.TextArea aria-label="The definition, as YAML" className="mono" autoSize={{ minRows: 12, maxRows: 32 }} value={text} onChange={(e) => setText(e.target.value)} />
      <div className="buttons">
        <Button type="primary" disabled={text === p.service.source} loading={load.isPending} onClick={() => load.mutate()}>
          Check and load it as version {p.service.version + 1}
        </Button>
        <Button onClick={() => setText(undefined)}>Leave it</Button>
      </div>
      {load.error && <Alert type="error" title={<span className="wrap">{load.error.message}</span>} />}
    </>
  )
}
