import { useQuery } from '@tanstack/react-query'
import { useSearchParams } from 'react-router'
import type { Account } from '../../api/client'
import { change, forms } from '../../api/queries'
import { Page } from '../../ui/Page'
import { Choice } from '../../ui/Sentence'
import { Problem, Waiting } from '../../ui/States'
import { FillForm } from './FillForm'
import { Write } from './Write'

const skeleton = `title: ''
reason: ''
service: ''
where: ''
count: ''
edits: []
ladder: {stages: [{up-to: 1}, {up-to: 25%}, {hosts: all}], at_once: 4, soak: 5m}
`

// DraftPage begins a change: from nothing, a form, an earlier change, or a new revision of one.
export function DraftPage({ me }: { me: Account }) {
  const [params, setParams] = useSearchParams()
  const revised = Number(params.get('revise')) || 0
  const earlier = Number(params.get('change')) || 0
  const form = params.get('form') ?? ''
  const list = useQuery(forms())
  const from = useQuery({ ...change(revised || earlier), enabled: revised + earlier > 0 })
  const chosen = list.data?.find((f) => f.name === form)
  const begin = (name: string, value: string) => setParams(value ? { [name]: value } : {})
  if (!me.roles.includes('author'))
    return (
      <Page title="Draft a change" help="console#drafting">
        <p>Authors draft changes. An admin gives the role.</p>
      </Page>
    )
  const title = revised ? `Revise change ${revised}` : 'Draft a change'
  return (
    <Page title={title} help="console#drafting">
      {!revised && (
        <p className="filter">
          Begin from{' '}
          <Choice label="A form" value={form} any="no form" of={(list.data ?? []).map((f): [string, string] => [f.name, f.title])} onChange={(v) => begin('form', v)} />
          , or from change{' '}
          <input className="word" aria-label="An earlier change" size={6} placeholder="none" defaultValue={earlier || ''} onBlur={(e) => begin('change', e.target.value.trim())} onKeyDown={(e) => e.key === 'Enter' && begin('change', e.currentTarget.value.trim())} />
        </p>
      )}
      {list.error && <Problem error={list.error} />}
      {from.error && <Problem error={from.error} />}
      {form && list.isPending && <Waiting what="forms" />}
      {form && list.data && !chosen && <p>There is no form with this name.</p>}
      {chosen && <FillForm key={chosen.name} form={chosen} />}
      {!form && revised + earlier > 0 && !from.data && !from.error && <Waiting what={`change ${revised || earlier}`} />}
      {!form && (revised + earlier === 0 || from.data) && <Write key={`${revised} ${earlier}`} of={`${revised} ${earlier}`} me={me} change={revised} basis={from.data?.revision ?? 0} source={from.data?.source ?? skeleton} />}
    </Page>
  )
}
