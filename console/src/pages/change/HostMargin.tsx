import { useQuery } from '@tanstack/react-query'
import type { HostRun } from '../../api/client'
import { hostRun } from '../../api/queries'
import { StateMark } from '../../ui/StateMark'

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

// HostMargin shows one host's run, step by step, beside the work.
export function HostMargin({ id, run }: { id: number; run: HostRun }) {
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
      {steps.error && <p className="second">{steps.error.message}</p>}
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
