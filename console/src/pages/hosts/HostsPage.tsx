import { useQuery } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { Account, Host } from '../../api/client'
import { hosts, today } from '../../api/queries'
import { Ago, counted } from '../../ui/Ago'
import { Page } from '../../ui/Page'
import { Pages } from '../../ui/Pages'
import { Text, useFilters } from '../../ui/Sentence'
import { StateMark } from '../../ui/StateMark'
import { Nothing, Problem, Waiting } from '../../ui/States'
import { Table } from '../../ui/Table'
import { Enrol } from './Enrol'
import { Survey } from './Survey'

const page = 200

export function HostsPage({ me }: { me: Account }) {
  const [get, set] = useFilters()
  const [enrols, setEnrols] = useState(false)
  const label = get('label').split(/\s+/).filter((l) => /^[^=]+=/.test(l))
  const list = useQuery(hosts({ name: get('name') || undefined, where: get('where') || undefined, label: label.length > 0 ? label : undefined, after: get('after') || undefined, limit: page }))
  const unwell = useQuery({ ...today(), refetchInterval: 15_000 })
  const ill = new Map((unwell.data?.unwell ?? []).flatMap((u) => u.hosts.map((h) => [h.host, u.kind] as const)))
  const filtered = ['name', 'where', 'label'].some((name) => get(name))
  const last = list.data?.at(-1)
  const sorted = [...(list.data ?? [])].sort((a, b) => Number(ill.has(b.name)) - Number(ill.has(a.name)))
  return (
    <Page
      title="Hosts"
      help="console#hosts"
      action={
        <div className="action">
          <div className="buttons">
            {me.roles.includes('admin') && <Button onClick={() => setEnrols(true)}>Add a host</Button>}
            {me.roles.includes('operator') && <Survey where={get('where')} filtered={filtered && !get('name') && label.length === 0} />}
          </div>
        </div>
      }
    >
      <p className="filter">
        Hosts named <Text label="Name" value={get('name')} any="anything" onChange={(v) => set('name', v)} />, labelled <Text label="Labels" value={get('label')} any="in any way" mono onChange={(v) => set('label', v)} />, for which{' '}
        <Text label="Expression" value={get('where')} any="anything holds" size={24} mono onChange={(v) => set('where', v)} />
      </p>
      {list.error && <Problem error={list.error} again={() => void list.refetch()} />}
      {list.isPending && <Waiting what="hosts" />}
      {list.data?.length === 0 &&
        (filtered || get('after') ? <Nothing>No host fits. An expression is written as in a change: labels.site == "delta" &amp;&amp; cores &gt;= 4</Nothing> : <Nothing>No host has been added yet. {me.roles.includes('admin') ? 'Add the first one above.' : 'An admin adds them.'}</Nothing>)}
      {sorted.length > 0 && (
        <>
          <p className="second">
            {list.data?.length === page ? `the first ${page}` : counted(sorted.length, 'host')}
            {get('after') && `, behind ${get('after')}`}; unwell ones first
          </p>
          <Rows all={sorted} ill={ill} />
        </>
      )}
      {list.data && last && (list.data.length === page || get('after')) && (
        <Pages first={get('after') !== '' && { words: 'From the beginning', go: () => set('after', '') }} next={list.data.length === page && { words: 'Further ones', go: () => set('after', last.name) }} />
      )}
      {enrols && <Enrol onClose={() => setEnrols(false)} />}
    </Page>
  )
}

const ills: { [kind: string]: string } = { stranded: 'stranded', unknown: 'lost sight of', undone: 'its guard fired', restored: 'restored', drifted: 'drifted', unready: 'saved, not in force', unreached: 'not reached for a day' }

function Rows({ all, ill }: { all: Host[]; ill: Map<string, string> }) {
  return (
    <Table heads={['Name', 'Labels', 'How it is', 'System*', 'Address*', 'Last seen']}>
      {all.map((h) => {
        const kind = ill.get(h.name)
        return (
          <tr key={h.id} data-host-row={h.name}>
            <td className="wrap">
              <Link to={`/hosts/${encodeURIComponent(h.name)}`}>{h.name}</Link>
            </td>
            <td className="mono wrap">{Object.entries(h.labels).sort().map(([k, v]) => `${k}=${v}`).join(' ')}</td>
            <td>
              {kind ? (
                <>
                  <StateMark state={kind === 'stranded' ? 'stranded' : kind === 'restored' || kind === 'undone' ? 'restored' : 'unknown'} /> {ills[kind] ?? kind}
                </>
              ) : h.aside_because ? (
                'set aside'
              ) : h.missed_at ? (
                <>
                  not reached, <Ago at={h.missed_at} />
                </>
              ) : (
                <span className="second">as it was placed</span>
              )}
            </td>
            <td className="wide">{h.traits.os ? `${h.traits.os} ${h.traits.os_version}, ${counted(h.traits.cores, 'core')}` : <span className="second">not surveyed</span>}</td>
            <td className="wide mono wrap">{h.address}</td>
            <td>{h.surveyed_at ? <Ago at={h.surveyed_at} /> : <span className="second">never</span>}</td>
          </tr>
        )
      })}
    </Table>
  )
}
