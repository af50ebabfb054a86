import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Checkbox } from 'antd'
import { useState } from 'react'
import { host, hostKey, pinKey } from '../../api/queries'
import { Problem } from '../../ui/States'

// inGroups makes a fingerprint readable aloud: groups of four.
function inGroups(fingerprint: string): string {
  const [kind, text] = fingerprint.includes(':') ? [fingerprint.slice(0, fingerprint.indexOf(':') + 1), fingerprint.slice(fingerprint.indexOf(':') + 1)] : ['', fingerprint]
  return `${kind} ${text.match(/.{1,4}/g)?.join(' ') ?? ''}`.trim()
}

// HostKey shows the key that the host shows now, and has a person compare it before it is pinned.
export function HostKey({ name }: { name: string }) {
  const cache = useQueryClient()
  const [asks, setAsks] = useState(false)
  const [same, setSame] = useState(false)
  const query = useQuery({ ...hostKey(name), enabled: asks })
  const pin = useMutation({
    mutationFn: (fingerprint: string) => pinKey(name, fingerprint),
    onSuccess: () => cache.invalidateQueries({ queryKey: host(name).queryKey }),
  })
  const k = query.data
  return (
    <section aria-label="Its key">
      <h2>Its key</h2>
      {!asks && (
        <Button size="small" onClick={() => setAsks(true)}>
          See the key that it shows now
        </Button>
      )}
      {query.isFetching && <p className="second" role="status">Asking the host …</p>}
      {query.error && <Problem error={query.error} again={() => void query.refetch()} />}
      {k && (
        <>
          <p className="fingerprint mono">{inGroups(k.fingerprint)}</p>
          {k.pinned === k.fingerprint ? (
            <p>It is the pinned one.</p>
          ) : (
            <>
              {k.pinned && (
                <p>
                  <b>Another one is pinned:</b> <span className="mono wrap">{inGroups(k.pinned)}</span>. A second admin has to agree to the new one.
                </p>
              )}
              <p>Is this what the console of the machine shows? There, it is printed by: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub</p>
              <Checkbox checked={same} onChange={(e) => setSame(e.target.checked)}>
                I compared it, letter by letter
              </Checkbox>
              <div className="buttons">
                <Button type="primary" disabled={!same} loading={pin.isPending} onClick={() => pin.mutate(k.fingerprint)}>
                  Pin this key
                </Button>
              </div>
              {pin.data?.request && <p role="status">Another admin has to agree.</p>}
              {pin.error && <Alert type="error" title={pin.error.message} />}
            </>
          )}
        </>
      )}
    </section>
  )
}
