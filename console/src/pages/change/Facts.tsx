import { Fragment } from 'react'
import { Link } from 'react-router'
import type { ChangeDetail } from '../../api/client'
import { Ago, counted } from '../../ui/Ago'

// Facts says what the change is: why, where, by whom, under which digest.
export function Facts({ detail: d }: { detail: ChangeDetail }) {
  const r = d.rehearsal
  return (
    <dl className="facts">
      <dt>Reason</dt>
      <dd className="wrap">{d.reason.trim()}</dd>
      {d.ticket && (
        <>
          <dt>Ticket</dt>
          <dd>{d.ticket}</dd>
        </>
      )}
      {d.takes_back && (
        <>
          <dt>Takes back</dt>
          <dd>
            <Link to={`/changes/${d.takes_back}`}>change {d.takes_back}</Link>
          </dd>
        </>
      )}
      {d.taken_back_by?.map((n) => (
        <Fragment key={n}>
          <dt>Opposite</dt>
          <dd>
            <Link to={`/changes/${n}`}>change {n}</Link>
          </dd>
        </Fragment>
      ))}
      <dt>Where</dt>
      <dd>
        {d.services.join(', then ')} on hosts with <span className="mono">{d.where}</span>
      </dd>
      <dt>Author</dt>
      <dd>
        {d.author}, revision {d.revision}, <Ago at={d.created_at} />
      </dd>
      {r && (
        <>
          <dt>Rehearsal</dt>
          <dd>
            {r.ended_at ? `${counted(r.hosts, 'host')}, ${r.planned} in the plan` : `${r.read} of ${counted(r.hosts, 'host')} read so far`}, <Ago at={r.begun_at} />
          </dd>
          <dt>Digest</dt>
          <dd className="mono" title={r.digest}>
            {r.digest ? r.digest.slice(0, 16) : 'none: there is no plan'}
          </dd>
        </>
      )}
      {d.approvals.map((a, i) => (
        <Approval key={i} verdict={a.verdict} account={a.account} at={a.at} digest={a.digest} because={a.because} />
      ))}
    </dl>
  )
}

function Approval(a: { verdict: string; account: string; at: string; digest: string; because: string }) {
  return (
    <>
      <dt>{a.verdict === 'approved' ? 'Approved' : 'Declined'}</dt>
      <dd>
        by {a.account}, <Ago at={a.at} />, for <span className="mono">{a.digest.slice(0, 16)}</span>
        {a.because && <span className="wrap">: {a.because}</span>}
      </dd>
    </>
  )
}
