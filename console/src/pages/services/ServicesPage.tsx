import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Input, Modal } from 'antd'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import type { Account } from '../../api/client'
import { loadService, services } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { Page } from '../../ui/Page'
import { Text, useFilters } from '../../ui/Sentence'
import { Nothing, Problem, Waiting } from '../../ui/States'
import { Table } from '../../ui/Table'

export function ServicesPage({ me }: { me: Account }) {
  const [get, set] = useFilters()
  const [loads, setLoads] = useState(false)
  const list = useQuery(services())
  const text = get('name').toLowerCase()
  const shown = (list.data ?? []).filter((s) => s.name.toLowerCase().includes(text) || s.title.toLowerCase().includes(text))
  const admin = me.roles.includes('admin')
  return (
    <Page
      title="Services"
      help="console#services"
      action={
        admin && (
          <div className="action">
            <Button onClick={() => setLoads(true)}>Load a definition</Button>
          </div>
        )
      }
    >
      <p className="filter">
        Services named <Text label="Name" value={get('name')} any="anything" onChange={(v) => set('name', v)} />
      </p>
      {list.error && <Problem error={list.error} again={() => void list.refetch()} />}
      {list.isPending && <Waiting what="services" />}
      {list.data?.length === 0 && <Nothing>No definition has been loaded yet. {admin ? 'Load the first one above; another admin has to approve it.' : 'An admin loads them.'}</Nothing>}
      {list.data && list.data.length > 0 && shown.length === 0 && <Nothing>No service has that in its name.</Nothing>}
      {shown.length > 0 && (
        <Table heads={['Service', 'What it is', 'In force', 'Newest', 'Loaded*']}>
          {shown.map((s) => (
            <tr key={s.name} data-service-row={s.name}>
              <td>
                <Link to={`/services/${encodeURIComponent(s.name)}`}>{s.name}</Link>
              </td>
              <td className="wrap">{s.title}</td>
              <td>{s.in_force ? `version ${s.in_force}` : 'none: it serves no host'}</td>
              <td>
                version {s.version}
                {s.version !== s.in_force && !s.withdrawn_by && ', waits for another admin'}
                {s.withdrawn_by && `, withdrawn by ${s.withdrawn_by}`}
              </td>
              <td className="wide">
                by {s.loaded_by}, <Ago at={s.loaded_at} />
              </td>
            </tr>
          ))}
        </Table>
      )}
      {loads && <Load onClose={() => setLoads(false)} />}
    </Page>
  )
}

function Load({ onClose }: { onClose: () => void }) {
  const cache = useQueryClient()
  const go = useNavigate()
  const [source, setSource] = useState('')
  const load = useMutation({
    mutationFn: () => loadService(source),
    onSuccess: (s) => {
      void cache.invalidateQueries({ queryKey: ['services'] })
      void go(`/services/${encodeURIComponent(s.name)}`)
    },
  })
  return (
    <Modal open closable={false} width={720} title="Load a definition" okText="Check and load it" okButtonProps={{ disabled: !source.trim() }} confirmLoading={load.isPending} onOk={() => load.mutate()} onCancel={onClose}>
      <p>A definition says how one piece of software is configured and looked after. It serves no host until another admin has approved it.</p>
      <Input.TextArea aria-label="The definition, as YAML" className="mono" rows={16} value={source} onChange={(e) => setSource(e.target.value)} />
      {load.error && <Alert type="error" title={<span className="wrap">{load.error.message}</span>} style={{ marginTop: 8 }} />}
    </Modal>
  )
}
