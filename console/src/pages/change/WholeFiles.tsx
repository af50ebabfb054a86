import { useMutation, useQuery } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import { useState } from 'react'
import type { Group } from '../../api/client'
import { picked, wholeFiles } from '../../api/queries'
import { Diff } from '../../ui/Diff'

// WholeFiles opens the files of hosts of a group with all of their lines: of the first, or of
// three that are picked at random.
export function WholeFiles({ id, digest, group }: { id: number; digest: string; group: Group }) {
  const [hosts, setHosts] = useState<string[]>([])
  const pick = useMutation({ mutationFn: () => picked(id, group.key), onSuccess: setHosts })
  const first = group.hosts[0] ?? ''
  return (
    <div className="whole">
      <div className="deeds">
        <label className="deeds">
          Whole files of
          <input className="mono" list={`hosts-${group.key}`} placeholder={first} size={28} onKeyDown={(e) => e.key === 'Enter' && setHosts([e.currentTarget.value.trim() || first])} />
          <datalist id={`hosts-${group.key}`}>
            {group.hosts.map((host) => <option key={host} value={host} />)}
          </datalist>
        </label>
        {group.count > 3 && <Button size="small" loading={pick.isPending} onClick={() => pick.mutate()}>Three hosts at random</Button>}
        {hosts.length > 0 && <Button size="small" onClick={() => setHosts([])}>Close</Button>}
      </div>
      {pick.error && <Alert type="error" title={pick.error.message} />}
      {hosts.map((host) => <OfHost key={host} id={id} digest={digest} host={host} />)}
    </div>
  )
}

function OfHost({ id, digest, host }: { id: number; digest: string; host: string }) {
  return (
    <section aria-label={`Whole files of ${host}`} data-whole={host}>
      <h3>{host}</h3>
      <FilesOf id={id} digest={digest} host={host} />
    </section>
  )
}

// FilesOf are the files of one host of the plan, before and after; what stays is folded.
export function FilesOf({ id, digest, host }: { id: number; digest: string; host: string }) {
  const files = useQuery(wholeFiles(id, digest, host))
  if (files.error) return <p className="second">{files.error.message}</p>
  return (
    <>
      {files.data?.files.map((f) => (
        <div key={f.path}>
          {f.why && (
            <p className="second wrap">
              {f.path}: {f.why}
            </p>
          )}
          {f.diff && <Diff text={f.diff} />}
        </div>
      ))}
    </>
  )
}
