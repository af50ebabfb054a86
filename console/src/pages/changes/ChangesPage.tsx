import { useQuery } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import type { Account, Change } from '../../api/client'
import { changes, changesPage, people, services } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { useKeys } from '../../ui/keys'
import { Page } from '../../ui/Page'
import { Pages } from '../../ui/Pages'
import { Choice, Text, useFilters } from '../../ui/Sentence'
import { SmallLadder } from '../../ui/SmallLadder'
import { Nothing, Problem, Waiting } from '../../ui/States'
import { Table } from '../../ui/Table'

const states: Change['state'][] = ['draft', 'rehearsed', 'offered', 'approved', 'climbing', 'completed', 'stopped', 'countered', 'withdrawn']

const since: [string, string][] = [
  ['1', 'yesterday'],
  ['7', '7 days ago'],
  ['30', '30 days ago'],
  ['365', 'a year ago'],
]

// daysAgo is the beginning of a day, so that a query is the same all day.
function daysAgo(days: string): string | undefined {
  if (!/^\d{1,4}$/.test(days)) return undefined
  const at = new Date()
  at.setHours(0, 0, 0, 0)
  return new Date(at.getTime() - Number(days) * 86_400_000).toISOString()
}

export function ChangesPage({ me }: { me: Account }) {
  const [get, set] = useFilters()
  const list = useQuery(
    changes({
      state: get('state') || undefined,
      author: get('author') || undefined,
      service: get('service') || undefined,
      host: get('host') || undefined,
      text: get('text') || undefined,
      since: daysAgo(get('since')),
      before: Number(get('before')) || undefined,
      limit: changesPage,
    }),
  )
  const authors = useQuery(people())
  const known = useQuery(services())
  const filtered = ['state', 'author', 'service', 'host', 'text', 'since'].some((name) => get(name))
  const last = list.data?.at(-1)
  return (
    <Page title="Changes" name={get('state') ? `Changes, ${get('state')}` : 'Changes'} help="console#changes" action={me.roles.includes('author') && <Link className="act" to="/draft">Draft a change</Link>}>
      <p className="filter">
        Changes <Choice label="State" value={get('state')} any="in any state" of={states} onChange={(v) => set('state', v)} /> by{' '}
        <Choice label="Author" value={get('author')} any="anyone" of={(authors.data ?? []).map((p) => [p.name, p.display])} onChange={(v) => set('author', v)} /> on{' '}
        <Choice label="Service" value={get('service')} any="any service" of={(known.data ?? []).map((s) => s.name)} onChange={(v) => set('service', v)} />, touching{' '}
        <Text label="Host" value={get('host')} any="any host" onChange={(v) => set('host', v)} />, titled <Text label="Title" value={get('text')} any="anything" onChange={(v) => set('text', v)} />, moved since{' '}
        <Choice label="Since" value={get('since')} any="the beginning" of={since} onChange={(v) => set('since', v)} />
      </p>
      {list.error && <Problem error={list.error} again={() => void list.refetch()} />}
      {list.isPending && <Waiting what="changes" />}
      {list.data?.length === 0 && (filtered || get('before') ? <Nothing>No change fits. Open a word of the sentence to look wider.</Nothing> : <Nothing>No change has been drafted yet. {me.roles.includes('author') ? 'Draft the first one above.' : 'Authors draft them.'}</Nothing>)}
      {list.data && list.data.length > 0 && <Rows all={list.data} />}
      {list.data && last && (list.data.length === changesPage || get('before')) && (
        <Pages first={get('before') !== '' && { words: 'The newest', go: () => set('before', '') }} next={list.data.length === changesPage && { words: 'Older ones', go: () => set('before', String(last.id)) }} />
      )}
    </Page>
  )
}

function Rows({ all }: { all: Change[] }) {
  const [at, setAt] = useState(-1)
  const body = useRef<HTMLTableSectionElement>(null)
  const go = useNavigate()
  const move = (to: number) => {
    const next = Math.max(0, Math.min(all.length - 1, to))
    setAt(next)
    body.current?.rows[next]?.querySelector('a')?.focus()
  }
  useKeys({
    j: () => move(at + 1),
    k: () => move(at - 1),
    Enter: () => {
      const c = all[at]
      if (c) void go(`/changes/${c.id}`)
    },
  })
  return (
    <Table heads={['No.', 'Change', 'State', 'Climb', 'Service*', 'Hosts', 'Author*', 'Moved', 'Next*']} body={body}>
      {all.map((c, i) => (
        <tr key={c.id} data-row-key={c.id} className={i === at ? 'at' : undefined}>
          <td>{c.id}</td>
          <td className="wrap">
            <Link to={`/changes/${c.id}`}>{c.title}</Link>
          </td>
          <td>
            {c.state}
            {c.state === 'climbing' && c.climb_state !== 'running' && `, ${c.climb_state}`}
          </td>
          <td>
            <SmallLadder of={c} />
          </td>
          <td className="wide">{c.services.join(', ')}</td>
          <td>{c.hosts}</td>
          <td className="wide">{c.author}</td>
          <td>
            <Ago at={c.updated_at} />
          </td>
          <td className="wide wrap">{c.next}</td>
        </tr>
      ))}
    </Table>
  )
}
