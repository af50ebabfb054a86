import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Input } from 'antd'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { answer, change } from '../../api/queries'
import { Ago } from '../../ui/Ago'

// Gate shows what a person looks at before the climb goes on, and what was seen so far.
export function Gate({ id, gate, mayAnswer }: { id: number; gate: Schemas['Gate']; mayAnswer: boolean }) {
  return (
    <section aria-label="The gate">
      <h2>Before stage {gate.stage + 1}, look at</h2>
      <ol className="checks">
        {gate.checks.map((c, i) => (
          <li key={i} className="wrap">
            {c.look}
            {c.in && <span className="second"> (in {c.in})</span>}
            <Answer id={id} number={i + 1} check={c} mayAnswer={mayAnswer} />
          </li>
        ))}
      </ol>
    </section>
  )
}

function Answer({ id, number, check: c, mayAnswer }: { id: number; number: number; check: Schemas['GateCheck']; mayAnswer: boolean }) {
  const cache = useQueryClient()
  const [note, setNote] = useState('')
  const [client, setClient] = useState('')
  const go = useMutation({
    mutationFn: (well: boolean) => answer(id, { check: number, well, in: client.trim(), note }),
    onSuccess: () => {
      setNote('')
      setClient('')
    },
    onSettled: () => cache.invalidateQueries({ queryKey: change(id).queryKey }),
  })
  return (
    <div>
      {c.by && c.at && (
        <div className="wrap">
          {c.well ? '✓ well' : '✗ not well'}, says {c.by}, <Ago at={c.at} />
          {c.note && `: ${c.note}`}
        </div>
      )}
      {mayAnswer && !c.well && (
        <div className="buttons">
          <Input aria-label={`What you saw of check ${number}`} placeholder="What you saw" value={note} onChange={(e) => setNote(e.target.value)} style={{ maxWidth: 280 }} />
          <Input aria-label={`In which client you looked at check ${number}`} placeholder={c.in || 'In which client'} value={client} onChange={(e) => setClient(e.target.value)} style={{ maxWidth: 200 }} />
          <Button loading={go.isPending} onClick={() => go.mutate(true)}>Well</Button>
          <Button danger disabled={!note.trim()} loading={go.isPending} onClick={() => go.mutate(false)}>Not well</Button>
        </div>
      )}
      {go.error && <Alert type="error" title={go.error.message} />}
    </div>
  )
}
