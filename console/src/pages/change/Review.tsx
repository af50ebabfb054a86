import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Input } from 'antd'
import { useState } from 'react'
import type { Account, ChangeDetail, Comment, Finding } from '../../api/client'
import { acknowledge, change, comment, override, settle } from '../../api/queries'
import { Ago, counted } from '../../ui/Ago'
import type { Place } from '../../ui/Diff'
import { Since } from './Since'

// About is the line that somebody is about to comment on.
export interface About extends Place {
  group: string
}

interface Shown {
  detail: ChangeDetail
  digest: string
  me: Account
  about?: About
  onAbout: (about: About | undefined) => void
}

// useSaid says something of a change, and reads it again.
function useSaid<T>(id: number, say: (what: T) => Promise<unknown>) {
  const cache = useQueryClient()
  return useMutation({ mutationFn: say, onSuccess: () => cache.invalidateQueries({ queryKey: change(id).queryKey }) })
}

// Review says what policy wants yet of the plan, and holds what people say of it.
export function Review({ detail: d, digest, me, about, onAbout }: Shown) {
  const r = d.review
  const planning = d.state === 'rehearsed' || d.state === 'offered' || d.state === 'approved'
  const judges = me.roles.includes('reviewer') && !(r.wrote ?? []).includes(me.name)
  const open = new Set(r.open ?? [])
  const warnings = unique([...(d.rehearsal?.findings ?? []), ...(d.rehearsal?.groups ?? []).flatMap((g) => g.findings)]).filter((f) => f.level === 'warn' && f.id && open.has(f.id))
  const comments = r.comments ?? []
  const threads = comments.filter((c) => !c.to)
  return (
    <section aria-label="Review" id="review">
      <h2>Review</h2>
      {planning && d.state !== 'rehearsed' && (r.missing?.length ? <p className="wrap">It lacks {r.missing.join(', and ')}.</p> : <p>It has the approvals that policy wants.</p>)}
      {(planning || d.state === 'climbing') && r.held && <Alert type="warning" title={`No host starts now: ${r.held}`} style={{ marginBottom: 8 }} />}
      {planning && r.returning && <p className="wrap">It goes back by itself: {r.returning}.</p>}
      {planning && warnings.map((f) => <Warning key={f.id} id={d.id} digest={digest} finding={f} may={judges} />)}
      {planning && r.barred?.flatMap((b) => b.vetoes.map((v) => <Barred key={`${b.host} ${v.finding}`} id={d.id} digest={digest} host={b.host} veto={v} done={(r.overrides ?? []).some((o) => o.host === b.host && o.finding === v.finding && o.digest === digest)} />))}
      {r.overrides?.map((o) => (
        <p key={`${o.digest} ${o.host} ${o.finding}`} className="wrap">
          {o.account} overrode a veto on {o.host}, <Ago at={o.at} />: {o.because}
          {o.digest !== digest && <span className="second"> (void: the plan is another)</span>}
        </p>
      ))}
      <LookedThrough detail={d} />
      <Since detail={d} digest={digest} />
      {threads.map((c) => (
        <Thread key={c.id} id={d.id} first={c} answers={comments.filter((a) => a.to === c.id)} current={digest} may={me.kind === 'session' || !me.kind} settles={c.account === me.name || (r.wrote ?? []).includes(me.name)} />
      ))}
      <Say id={d.id} digest={digest} about={about} onDone={() => onAbout(undefined)} />
    </section>
  )
}

function unique(all: Finding[]): Finding[] {
  return [...new Map(all.map((f) => [f.id ?? f.text, f])).values()]
}

function Warning({ id, digest, finding: f, may }: { id: number; digest: string; finding: Finding; may: boolean }) {
  const said = useSaid(id, () => acknowledge(id, { digest, finding: f.id ?? '' }))
  return (
    <div className="deeds" data-warning={f.id}>
      <span className="wrap">
        <b>warn</b> {f.text}
      </span>
      {may && <Button size="small" loading={said.isPending} onClick={() => said.mutate(undefined)}>Acknowledge</Button>}
      {!may && <span className="second">waits for a reviewer to acknowledge it</span>}
      {said.error && <Alert type="error" title={said.error.message} />}
    </div>
  )
}

type Veto = NonNullable<ChangeDetail['review']['barred']>[number]['vetoes'][number]

function Barred({ id, digest, host, veto, done }: { id: number; digest: string; host: string; veto: Veto; done: boolean }) {
  const [because, setBecause] = useState<string>()
  const said = useSaid(id, () => override(id, { digest, host, finding: veto.finding, because: because ?? '' }))
  const by = veto.by.length > 0 ? `${veto.by.join(', ')} may override it` : 'policy names nobody who may override it'
  return (
    <div className="say">
      <span className="wrap">
        <b>{host}</b> has the veto “{veto.code}”{done ? ', which is overridden' : `; ${by}`}
      </span>
      {!done && veto.by.length > 0 && because === undefined && (
        <div className="deeds">
          <Button size="small" danger onClick={() => setBecause('')}>Override…</Button>
        </div>
      )}
      {!done && because !== undefined && (
        <>
          <Input.TextArea aria-label="Why it does not hold there" placeholder="Why it does not hold there. Approvals before count no more." rows={2} value={because} onChange={(e) => setBecause(e.target.value)} />
          <div className="deeds">
            <Button size="small" danger disabled={!because.trim()} loading={said.isPending} onClick={() => said.mutate(undefined)}>Override it on {host} for this plan</Button>
            <Button size="small" onClick={() => setBecause(undefined)}>Leave it</Button>
          </div>
        </>
      )}
      {said.error && <Alert type="error" title={said.error.message} />}
    </div>
  )
}

function Thread({ id, first, answers, current, may, settles }: { id: number; first: Comment; answers: Comment[]; current: string; may: boolean; settles: boolean }) {
  const [text, setText] = useState<string>()
  const ended = useSaid(id, () => settle(id, first.id))
  const said = useSaid(id, () => comment(id, { to: first.id, text: text ?? '' }).then(() => setText(undefined)))
  const where = first.file ? `on ${first.file}:${first.line}` : first.group ? 'on a diff group' : 'on the whole'
  return (
    <div className={first.settled_by ? 'thread' : 'thread open'} data-thread={first.id}>
      <span className="second">
        {first.account}, <Ago at={first.at} />, {where}
        {first.digest !== current && ', of a plan before'}
        {first.settled_by && `; settled by ${first.settled_by}`}
      </span>
      {first.quote && <pre className="mono wrap">{first.quote}</pre>}
      <p className="wrap">{first.text}</p>
      {answers.map((a) => (
        <div className="answer" key={a.id}>
          <span className="second">
            {a.account}, <Ago at={a.at} />
          </span>
          <p className="wrap">{a.text}</p>
        </div>
      ))}
      {!first.settled_by && may && (
        <div className="deeds">
          {text === undefined && <Button size="small" onClick={() => setText('')}>Answer</Button>}
          {settles && <Button size="small" loading={ended.isPending} onClick={() => ended.mutate(undefined)}>Settle</Button>}
        </div>
      )}
      {text !== undefined && (
        <div className="say">
          <Input.TextArea aria-label="Answer" rows={2} value={text} onChange={(e) => setText(e.target.value)} />
          <div className="deeds">
            <Button size="small" type="primary" disabled={!text.trim()} loading={said.isPending} onClick={() => said.mutate(undefined)}>Answer</Button>
            <Button size="small" onClick={() => setText(undefined)}>Leave it</Button>
          </div>
        </div>
      )}
      {(said.error ?? ended.error) && <Alert type="error" title={(said.error ?? ended.error)?.message} />}
    </div>
  )
}

// Say takes a comment: on the line that was pressed in a diff, or on the whole.
function Say({ id, digest, about, onDone }: { id: number; digest: string; about?: About; onDone: () => void }) {
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const said = useSaid(id, () =>
    comment(id, { digest, text, ...(about && (about.file ? { group: about.group, file: about.file, line: about.line, old: about.old } : { group: about.group })) }).then(() => {
      setText('')
      setOpen(false)
      onDone()
    }),
  )
  if (!about && !open)
    return (
      <div className="deeds">
        <Button size="small" onClick={() => setOpen(true)}>Comment on the whole</Button>
        <span className="second">or press the mark of a line in a diff</span>
      </div>
    )
  return (
    <div className="say">
      <label htmlFor="say">{about ? (about.file ? `Comment on ${about.file}:${about.line}${about.old ? ', as it is' : ''}` : 'Comment on the diff group') : 'Comment on the whole'}</label>
      <Input.TextArea id="say" rows={2} value={text} autoFocus key={about && `${about.group} ${about.file} ${about.line}`} onChange={(e) => setText(e.target.value)} />
      <div className="deeds">
        <Button size="small" disabled={!text.trim()} loading={said.isPending} onClick={() => said.mutate(undefined)}>Comment</Button>
        <Button size="small" onClick={() => { setOpen(false); onDone() }}>Leave it</Button>
      </div>
      {said.error && <Alert type="error" title={said.error.message} />}
    </div>
  )
}

// LookedThrough says who went through how many of the diff groups, and which ones nobody did.
function LookedThrough({ detail: d }: { detail: ChangeDetail }) {
  const groups = d.rehearsal?.groups ?? []
  const looked = (d.review.looked ?? []).filter((l) => l.groups.length > 0)
  if (looked.length === 0 || groups.length === 0) return null
  const seen = new Set(looked.flatMap((l) => l.groups))
  const unseen = groups.filter((g) => !seen.has(g.key)).length
  return (
    <p className="wrap">
      Marked as read: {looked.map((l) => `${l.account} ${l.groups.length} of ${counted(groups.length, 'diff group')}`).join(', ')}
      {unseen > 0 && `; ${counted(unseen, 'diff group')} by nobody`}.
    </p>
  )
}
