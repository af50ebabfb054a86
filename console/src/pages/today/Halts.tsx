import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Input, Modal } from 'antd'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { liftHalt } from '../../api/queries'
import { Ago } from '../../ui/Ago'

// Halts are those that hold: nobody overlooks them, and an operator lifts them.
export function Halts({ halts, mayLift }: { halts: Schemas['Halt'][]; mayLift: boolean }) {
  const cache = useQueryClient()
  const [lifts, setLifts] = useState<number>()
  const [because, setBecause] = useState('')
  const go = useMutation({
    mutationFn: () => liftHalt(lifts ?? 0, because.trim()),
    onSuccess: () => {
      setLifts(undefined)
      setBecause('')
      return cache.invalidateQueries()
    },
  })
  return (
    <>
      {halts.map((h) => (
        <div className="halted" key={h.number} role="status">
          <div className="wrap">
            <b>Halted{h.where ? ' where ' : ' everywhere'}</b>
            {h.where && <code>{h.where}</code>} by {h.by}, <Ago at={h.at} />: {h.because}
          </div>
          {mayLift && (
            <Button size="small" onClick={() => setLifts(h.number)}>
              Lift…
            </Button>
          )}
        </div>
      ))}
      <Modal open={lifts !== undefined} closable={false} title={`Lift halt ${lifts}?`} okText="Lift it" okButtonProps={{ disabled: !because.trim() }} confirmLoading={go.isPending} onOk={() => go.mutate()} onCancel={() => setLifts(undefined)}>
        <p>Climbs that it held go on by themselves.</p>
        <Input.TextArea aria-label="Why" placeholder="Why, for whoever reads the record later" rows={2} value={because} onChange={(e) => setBecause(e.target.value)} />
        {go.error && <Alert type="error" title={go.error.message} />}
      </Modal>
    </>
  )
}
