import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Input, Modal } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { HostRun, RunState, Schemas } from '../../api/client'
import { change, hostRun, orderHost } from '../../api/queries'
import { milliseconds } from '../../ui/Ago'
import { StateMark } from '../../ui/StateMark'
import { FilesOf } from './WholeFiles'

type Verdict = Schemas['Verdict']

// proven says what a done run rests on.
function proven(run: HostRun): string {
  switch (run.proof) {
    case 'in-force':
      return 'proven by its in-force check'
    case 'probes':
      return 'proven by its probes'
    case 'none':
    case undefined:
      return 'not proven'
  }
}

// The states that docs/trouble.md has a part of.
const explained: RunState[] = ['restored', 'stranded', 'unknown', 'passed-over']

// HostMargin shows one host's run, step by step, beside the work.
export function HostMargin({ id, digest, run, maySteer }: { id: number; digest: string; run: HostRun; maySteer: boolean }) {
  const [shows, setShows] = useState(false)
  const steps = useQuery(hostRun(id, run.host, `${run.state} ${run.step}`))
  return (
    <section aria-live="polite">
      <h2 style={{ marginTop: 0 }} className="wrap">{run.host}</h2>
      <p>
        <StateMark state={run.state} /> {run.state}
        <span className="second">
          {' '}
          · files {run.files}, process {run.process}
          {run.state === 'done' && `, ${proven(run)}`}
          {run.may_fail && ', which may fail'}
        </span>
      </p>
      {run.why && run.state !== 'done' && <p className="wrap">{run.why}</p>}
      {maySteer && <Steer id={id} run={run} />}
      <p className="deeds">
        <Link to={`/hosts/${encodeURIComponent(run.host)}`}>Open the host</Link>
        {explained.includes(run.state) && <Link to={`/docs/trouble#${run.state}`}>What it means, what to do</Link>}
        {digest && (
          <button type="button" className="plain-button" aria-expanded={shows} onClick={() => setShows(!shows)}>
            {shows ? 'Hide its diff' : 'Its diff'}
          </button>
        )}
      </p>
      {shows && <FilesOf id={id} digest={digest} host={run.host} />}
      {steps.error && <p className="second">{steps.error.message}</p>}
      {steps.data?.steps_gone && <p className="second">The steps are gone: they are older than policy keeps them.</p>}
      {steps.data && <Answers before={steps.data.before ?? []} after={steps.data.after ?? []} />}
      <h3>What was done, and what it answered</h3>
      <table className="steps">
        <tbody>
          {steps.data?.steps?.map((s, i) => (
            <tr key={i}>
              <td>
                {s.step}
                <br />
                <span className="second">{s.outcome || 'under way'}</span>
              </td>
              <td className="second">{s.ended_at && `${Date.parse(s.ended_at) - Date.parse(s.begun_at)} ms`}</td>
              <td>{s.note}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}

// Answers are what the probes answered before the change and last after it.
function Answers({ before, after }: { before: Verdict[]; after: Verdict[] }) {
  const names = [...new Set([...before, ...after].map((v) => v.probe))]
  if (names.length === 0) return null
  return (
    <>
      <h3>Its probes, before → after</h3>
      <ul className="sentences">
        {names.map((name) => (
          <li key={name} className="wrap">
            {name}: {answered(before.find((v) => v.probe === name))} → {answered(after.find((v) => v.probe === name))}
          </li>
        ))}
      </ul>
    </>
  )
}

function answered(v: Verdict | undefined): string {
  if (!v) return 'not asked yet'
  if (v.waits) return 'waits for the change'
  return `${v.well ? 'well' : 'not well'}, ${v.why}${v.ms ? `, ${milliseconds(v.ms)}` : ''}`
}

interface HostChoice {
  order: 'again' | 'give-up' | 'overwrite'
  words: string
  ask: string
}

// offered says what may be done with one host of a climb that goes on.
function offered(run: HostRun): HostChoice[] {
  const host = run.host
  const again = (ask: string): HostChoice => ({ order: 'again', words: 'Try again', ask })
  const giveUp = (ask: string): HostChoice => ({ order: 'give-up', words: 'Give up', ask })
  switch (run.state) {
    case 'passed-over':
      if (run.edited) {
        return [{ order: 'overwrite', words: 'Put the old files over it', ask: `Put the old files of ${host} over what is there now? The host keeps that in the snapshot of this run.` }, { order: 'give-up', words: 'Leave it so', ask: `Leave ${host} as it is?` }]
      }
      return [again(`Try ${host} once more, after all others?`)]
    case 'restored':
      return [again(`Try ${host} once more, after all others?`)]
    case 'stranded':
      return [again(`Look at ${host} again, and put its old files back?`), giveUp(`Count ${host} as looked after by a person?`)]
    case 'queued':
      return [giveUp(`Pass ${host} over?`)]
    case 'working':
    case 'soaking':
    case 'unknown':
      return [giveUp(`Have ${host} get its old files back?`)]
    case 'done':
    case 'restoring':
      return []
  }
}

function Steer({ id, run }: { id: number; run: HostRun }) {
  const cache = useQueryClient()
  const [asked, setAsked] = useState<HostChoice>()
  const [because, setBecause] = useState('')
  const go = useMutation({
    mutationFn: (c: HostChoice) => orderHost(id, run.host, { order: c.order, because }),
    onSettled: () => {
      setAsked(undefined)
      setBecause('')
      return cache.invalidateQueries({ queryKey: change(id).queryKey })
    },
  })
  return (
    <div className="buttons">
      {offered(run).map((c) => (
        <Button key={c.order} size="small" onClick={() => setAsked(c)}>
          {c.words}
        </Button>
      ))}
      {go.error && <Alert type="error" title={go.error.message} />}
      <Modal open={asked !== undefined} closable={false} title={asked?.ask} okText={asked?.words} okButtonProps={{ disabled: !because.trim() }} onOk={() => asked && go.mutate(asked)} onCancel={() => setAsked(undefined)}>
        <Input.TextArea aria-label="Reason" placeholder="Why, for whoever reads the record later" rows={3} value={because} onChange={(e) => setBecause(e.target.value)} />
      </Modal>
    </div>
  )
}
