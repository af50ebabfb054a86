import { useMutation } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { ask } from '../../api/queries'
import { Problem } from '../../ui/States'
import type { Known } from './completion'
import { add, has, listed, put, said, type Key } from './document'
import { Expression } from './Expression'
import { Line, Part } from './Field'
import { problemsOf } from './problems'
import type { Draft } from './useDraft'

// Judge is how the change is judged: its own probes, and those that the service asks of every change.
export function Judge({ draft, known }: { draft: Draft; known: Known }) {
  const probes = listed(draft.of, 'probes')
  const set = (path: Key[], value: unknown) => draft.type(put(draft.text, path, value))
  const foreseen = draft.check.data?.probes ?? []
  const its = foreseen.slice(probes.length)
  const first = draft.check.data?.first[0]
  return (
    <Part id="judge" title="How to judge" problems={problemsOf(draft, 'probes', 'guard', 'may-fail')}>
      {probes.map((p, i) => (
        <fieldset key={i} className="edit">
          <legend className="second">Probe {i + 1} of this change</legend>
          <div className="row">
            <Line label="Name" value={said(p, 'name')} onValue={(v) => set(['probes', i, 'name'], v)} size={18} />
            <Line label="Question" value={said(p, 'ask')} onValue={(v) => set(['probes', i, 'ask'], v)} size={32} hint="http GET :8080/health" mono />
            {has(p, 'before') || has(p, 'after') ? (
              <>
                <Line label="Before, this holds" value={said(p, 'before')} onValue={(v) => set(['probes', i, 'before'], v)} size={24} mono />
                <Line label="Afterwards, this holds" value={said(p, 'after')} onValue={(v) => set(['probes', i, 'after'], v)} size={24} mono />
              </>
            ) : (
              <Line label="Before and after, this holds" value={said(p, 'expect')} onValue={(v) => set(['probes', i, 'expect'], v)} size={32} hint="status == 200" mono />
            )}
          </div>
          <div className="deeds">
            {!has(p, 'before') && !has(p, 'after') && (
              <Button size="small" onClick={() => set(['probes', i], { name: said(p, 'name'), ask: said(p, 'ask'), before: said(p, 'expect'), after: said(p, 'expect') })}>
                Another answer before than after
              </Button>
            )}
            <Button size="small" onClick={() => set(['probes', i], undefined)}>
              Remove this probe
            </Button>
          </div>
          {foreseen[i] && <Try of={foreseen[i]} host={first} />}
        </fieldset>
      ))}
      <div className="deeds">
        <Button size="small" onClick={() => draft.type(add(draft.text, ['probes'], { name: '', ask: '', expect: '' }))}>
          Another probe
        </Button>
      </div>
      {its.length > 0 && (
        <>
          <p className="second">The service asks these of every change:</p>
          {its.map((p) => (
            <div key={`${p.service} ${p.name}`} className="found">
              {p.name} <span className="mono second wrap">{p.ask}</span>
              <Try of={p} host={first} />
            </div>
          ))}
        </>
      )}
      {has(draft.of, 'may-fail') ? (
        <Expression label="Hosts that may fail without a pause" value={said(draft.of, 'may-fail')} onValue={(v) => set(['may-fail'], v || undefined)} known={known} />
      ) : (
        <div className="deeds">
          <Button size="small" onClick={() => set(['may-fail'], 'labels.site == ""')}>
            Some hosts may fail without a pause…
          </Button>
        </div>
      )}
    </Part>
  )
}

// Try puts a probe to one host, where that is allowed before an approval.
function Try({ of: p, host }: { of: Schemas['DraftProbe']; host?: string }) {
  const [on, setOn] = useState('')
  const name = on || host || ''
  const go = useMutation({ mutationFn: () => ask({ where: `name == ${JSON.stringify(name)}`, service: p.service, asks: [p.ask] }) })
  if (p.waits) return <p className="second">It is asked in the rehearsal first: {p.waits}.</p>
  return (
    <>
      <div className="deeds">
        <Button size="small" disabled={!name} loading={go.isPending} onClick={() => go.mutate()}>
          Try it now
        </Button>
        on <input className="word mono" aria-label={`Host to try ${p.name} on`} size={24} placeholder={host} value={on} onChange={(e) => setOn(e.target.value.trim())} />
      </div>
      {go.error && <Problem error={go.error} />}
      {go.data?.answers.flatMap((a) => a.groups).map((g, i) => (
        <p key={i} className="wrap">
          {g.missing ? 'No answer' : 'It answers'}: <span className="mono">{g.value}</span>
        </p>
      ))}
    </>
  )
}
