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
      {d.follows && (
        <>
          <dt>Follows</dt>
          <dd>
            <Link to={`/changes/${d.follows}`}>change {d.follows}</Link>: the same edits, for hosts that are not done with it
          </dd>
        </>
      )}
      {d.followed_by?.map((n) => (
        <Fragment key={n}>
          <dt>Followed</dt>
          <dd>
            by <Link to={`/changes/${n}`}>change {n}</Link>
          </dd>
        </Fragment>
      ))}
      {d.temporary && (
        <>
          <dt>Temporary</dt>
          <dd>
            {d.temporary.waits > 0 && d.temporary.first ? <>{counted(d.temporary.waits, 'host')} to go back, the first <Ago at={d.temporary.first} /></> : 'none waits to go back'}, {d.temporary.back} back
            {d.temporary.stuck_count > d.temporary.stuck.length && `; ${d.temporary.stuck_count} are not back`}
            {d.temporary.stuck.map((s) => (
              <div key={s.host} className="wrap">
                <b>{s.host}</b> is not back: {s.why}; {s.again ? 'it is tried again' : 'a person has to look'}
              </div>
            ))}
          </dd>
        </>
      )}
      {d.behind && d.behind.length > 0 && (
        <>
          <dt>Behind</dt>
          <dd className="wrap">{d.behind.slice(0, 12).join(', ')}{(d.behind_count ?? 0) > 12 && ` and ${(d.behind_count ?? 0) - 12} more`}</dd>
        </>
      )}
      {d.prolongs && (
        <>
          <dt>Prolongs</dt>
          <dd>
            <Link to={`/changes/${d.prolongs}`}>change {d.prolongs}</Link>: its hosts go back later
          </dd>
        </>
      )}
      {d.prolonged_by?.map((n) => (
        <Fragment key={n}>
          <dt>Prolonged</dt>
          <dd>
            by <Link to={`/changes/${n}`}>change {n}</Link>
          </dd>
        </Fragment>
      ))}
      {d.where && (
        <>
          <dt>Where</dt>
          <dd>
            {d.services.join(', then ')} on hosts with <span className="mono">{d.where}</span>
          </dd>
        </>
      )}
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
        <Approval key={i} of={a} current={r?.digest ?? ''} />
      ))}
    </dl>
  )
}

const verdicts: { [verdict: string]: string } = {
  approved: 'Approved',
  declined: 'Declined',
  'taken-back': 'Approval withdrawn',
  emergency: 'Approved alone',
  reviewed: 'Reviewed',
}

function Approval({ of: a, current }: { of: ChangeDetail['approvals'][number]; current: string }) {
  return (
    <>
      <dt>{verdicts[a.verdict] ?? a.verdict}</dt>
      <dd>
        by {a.account}, <Ago at={a.at} />, for <span className="mono">{a.digest.slice(0, 16)}</span>
        {current && a.digest !== current ? ', void: the plan is another' : a.ends_at && <>, it ends <Ago at={a.ends_at} /></>}
        {a.because && <span className="wrap">: {a.because}</span>}
      </dd>
    </>
  )
}
