import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Input, Modal } from 'antd'
import { useState } from 'react'
import type { Host } from '../../api/client'
import { host, setAside } from '../../api/queries'

const inAWeek = () => new Date(Date.now() + 7 * 86_400_000).toISOString().slice(0, 10)

// Aside leaves a host alone for a while, or takes it back.
export function Aside({ host: h, onClose }: { host: Host; onClose: () => void }) {
  const cache = useQueryClient()
  const [because, setBecause] = useState('')
  const [until, setUntil] = useState(inAWeek)
  const back = !!h.aside_because
  const go = useMutation({
    mutationFn: () => setAside(h.name, back ? { back: true } : { aside: { because: because.trim(), until: new Date(`${until}T23:59:59`).toISOString() } }),
    onSuccess: () => {
      onClose()
      return cache.invalidateQueries({ queryKey: host(h.name).queryKey })
    },
  })
  return (
    <Modal open closable={false} title={back ? `Take ${h.name} back into service?` : `Set ${h.name} aside?`} okText={back ? 'Take it back' : 'Set it aside'} okButtonProps={{ disabled: !back && (!because.trim() || !until) }} confirmLoading={go.isPending} onOk={() => go.mutate()} onCancel={onClose}>
      <p>{back ? 'It is surveyed, rehearsed and changed again. Changes that it missed are not made afterwards by themselves.' : 'It is not surveyed, rehearsed or changed until then; what runs on it is left as it is.'}</p>
      {!back && (
        <>
          <label htmlFor="aside-until">The last day</label>
          <Input id="aside-until" type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
          <label htmlFor="aside-because">Why</label>
          <Input.TextArea id="aside-because" rows={2} value={because} onChange={(e) => setBecause(e.target.value)} />
        </>
      )}
      {go.error && <Alert type="error" title={go.error.message} style={{ marginTop: 8 }} />}
    </Modal>
  )
}
