import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { liftHalt } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { AskWhy } from '../../ui/AskWhy'

// Halts are those that hold: nobody overlooks them, and an operator lifts them.
export function Halts({ halts, mayLift }: { halts: Schemas['Halt'][]; mayLift: boolean }) {
  const cache = useQueryClient()
  const [lifts, setLifts] = useState<number>()
  const go = useMutation({
    mutationFn: (because: string) => liftHalt(lifts ?? 0, because),
    onSuccess: () => {
      setLifts(undefined)
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
      {lifts !== undefined && (
        <AskWhy title={`Lift halt ${lifts}?`} ok="Lift it" pending={go.isPending} error={go.error} onOk={(because) => go.mutate(because)} onCancel={() => setLifts(undefined)}>
          Climbs that it held go on by themselves.
        </AskWhy>
      )}
    </>
  )
}
