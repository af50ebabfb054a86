import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Input, Modal } from 'antd'
import { useState } from 'react'
import type { Change } from '../api/client'
import { giveHalt } from '../api/queries'
import { counted } from '../ui/Ago'

// Halt has nothing be changed any more, everywhere or where an expression fits, until it is lifted.
export function Halt({ climbs, onClose }: { climbs: Change[]; onClose: () => void }) {
  const cache = useQueryClient()
  const [where, setWhere] = useState('')
  const [because, setBecause] = useState('')
  const go = useMutation({
    mutationFn: () => giveHalt({ where: where.trim(), because: because.trim() }),
    onSuccess: () => {
      onClose()
      return cache.invalidateQueries()
    },
  })
  const of = (states: string[]) => climbs.reduce((n, c) => n + states.reduce((m, s) => m + (c.counts[s] ?? 0), 0), 0)
  const underWay = of(['working', 'soaking', 'restoring', 'unknown'])
  return (
    <Modal open closable={false} title="Halt all climbs?" okText={where.trim() ? 'Halt where this fits' : 'Halt everywhere'} okButtonProps={{ danger: true, disabled: !because.trim() }} confirmLoading={go.isPending} onOk={() => go.mutate()} onCancel={onClose}>
      <p>
        {counted(climbs.length, 'climb')} {climbs.length === 1 ? 'is' : 'are'} under way. {counted(of(['queued']), 'host')} will not be begun, until somebody lifts the halt. {underWay > 0 ? `${counted(underWay, 'host')} under way ${underWay === 1 ? 'takes' : 'take'} no further step forward, except one that must be finished.` : ''}
      </p>
      <label htmlFor="halt-where">Only where (an expression; empty is everywhere)</label>
      <Input id="halt-where" className="mono" placeholder={'labels.site == "delta"'} value={where} onChange={(e) => setWhere(e.target.value)} />
      <label htmlFor="halt-because">Why</label>
      <Input.TextArea id="halt-because" rows={2} placeholder="For whoever reads the record later" value={because} onChange={(e) => setBecause(e.target.value)} />
      {go.error && <Alert type="error" title={go.error.message} style={{ marginTop: 8 }} />}
    </Modal>
  )
}
