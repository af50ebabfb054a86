import { useMutation, useQuery } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import type { ServiceParts } from '../../api/client'
import { compared, hosts } from '../../api/queries'
import { counted } from '../../ui/Ago'
import { Problem } from '../../ui/States'
import { Strip } from '../../ui/Strip'
import { Table } from '../../ui/Table'

// Fleet asks hosts what they say of one setting, and draws the values to scale.
export function Fleet({ of: p }: { of: ServiceParts }) {
  const [params] = useSearchParams()
  const [address, setAddress] = useState(params.get('setting') ?? p.settings[0]?.address ?? '')
  const [file, setFile] = useState(params.get('file') ?? p.files[0]?.key ?? '')
  const go = useMutation({ mutationFn: () => compared({ service: p.service.name, file, address }) })
  return (
    <section id="fleet" aria-label="Over the fleet">
      <h2>Over the fleet</h2>
      <form
        className="filter"
        onSubmit={(e) => {
          e.preventDefault()
          go.mutate()
        }}
      >
        What hosts say of{' '}
        <input className="word mono" aria-label="Setting" list="settings" size={Math.max(24, address.length + 1)} value={address} onChange={(e) => setAddress(e.target.value)} />
        <datalist id="settings">
          {p.settings.map((s) => (
            <option key={`${s.file} ${s.address}`} value={s.address} />
          ))}
        </datalist>{' '}
        in{' '}
        <select className="word" aria-label="File" value={file} onChange={(e) => setFile(e.target.value)}>
          {p.files.map((f) => (
            <option key={f.key}>{f.key}</option>
          ))}
        </select>{' '}
        <Button size="small" htmlType="submit" disabled={!address.trim()} loading={go.isPending}>
          Ask them now
        </Button>
      </form>
      {go.error && <Problem error={go.error} />}
      {go.data && (
        <>
          <p>
            {counted(go.data.hosts, 'host')} read
            {go.data.missed && Object.keys(go.data.missed).length > 0 && `; ${counted(Object.keys(go.data.missed).length, 'host')} not: ${Object.keys(go.data.missed).slice(0, 4).join(', ')}`}.
          </p>
          <Strip of={go.data.values ?? []} />
        </>
      )}
    </section>
  )
}

// CompareHosts lays two hosts side by side: what differs, and how much is the same.
export function CompareHosts({ service }: { service: string }) {
  const [two, setTwo] = useState<[string, string]>(['', ''])
  const names = useQuery(hosts({ limit: 500 }))
  const go = useMutation({ mutationFn: () => compared({ service, hosts: two }) })
  return (
    <section aria-label="Two hosts side by side">
      <h2>Two hosts side by side</h2>
      <form
        className="filter"
        onSubmit={(e) => {
          e.preventDefault()
          go.mutate()
        }}
      >
        In what does <input className="word" aria-label="One host" list="host-names" size={22} value={two[0]} onChange={(e) => setTwo([e.target.value.trim(), two[1]])} /> differ from{' '}
        <input className="word" aria-label="The other host" list="host-names" size={22} value={two[1]} onChange={(e) => setTwo([two[0], e.target.value.trim()])} />
        <datalist id="host-names">
          {names.data?.map((h) => (
            <option key={h.id} value={h.name} />
          ))}
        </datalist>{' '}
        <Button size="small" htmlType="submit" disabled={!two[0] || !two[1]} loading={go.isPending}>
          Read both now
        </Button>
      </form>
      {go.error && <Problem error={go.error} />}
      {go.data && (
        <>
          <p>
            {(go.data.differ ?? []).length === 0 ? 'They say the same.' : `${counted((go.data.differ ?? []).length, 'setting')} ${(go.data.differ ?? []).length === 1 ? 'differs' : 'differ'}.`} {counted(go.data.alike ?? 0, 'setting')} {go.data.alike === 1 ? 'is' : 'are'} the same on both.
          </p>
          {(go.data.differ ?? []).length > 0 && (
            <Table heads={['Setting', ...two.map((h) => <Link key={h} to={`/hosts/${encodeURIComponent(h)}`}>{h}</Link>)]}>
              {go.data.differ?.map((d) => (
                <tr key={`${d.file} ${d.address}`}>
                  <td className="mono wrap">
                    {d.address} <span className="second">{d.file}</span>
                  </td>
                  {d.values.map((v, i) => (
                    <td key={i} className="mono wrap">
                      {d.there[i] ? v : <span className="second">not set</span>}
                    </td>
                  ))}
                </tr>
              ))}
            </Table>
          )}
        </>
      )}
    </section>
  )
}
