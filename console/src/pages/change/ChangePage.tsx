import { useQuery } from '@tanstack/react-query'
import { Alert } from 'antd'
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import type { Account, ChangeDetail, HostRun } from '../../api/client'
import { change, firstIn, hostRun, runs, told } from '../../api/queries'
import { useStream } from '../../api/stream'
import { Ago } from '../../ui/Ago'
import { floorsOf, isBundled, Ladder, rungsOf } from '../../ui/Ladder'
import { Page } from '../../ui/Page'
import { Sections, type Section } from '../../ui/Sections'
import { useFilters } from '../../ui/Sentence'
import { Counts, illOf, runStates } from '../../ui/StateMark'
import { Problem, Waiting } from '../../ui/States'
import { Told } from '../../ui/Told'
import { goesOn } from './actions'
import { Actions } from './Actions'
import { Course } from './Course'
import { Diffs } from './Diffs'
import { Facts } from './Facts'
import { Gate } from './Gate'
import { HostMargin } from './HostMargin'
import { Latencies } from './Latencies'
import { Plan } from './Plan'
import { Progress } from './Progress'
import { Review, type About } from './Review'
import { RunList } from './RunList'
import { Wall } from './Wall'

export function ChangePage({ me }: { me: Account }) {
  const id = Number(useParams().id)
  const query = useQuery(change(id))
  const up = useStream(id)
  const [get, set] = useFilters()
  const climb = query.data?.climb
  const known = useQuery({ ...runs(id, climb?.id ?? 0), enabled: climb !== undefined && !isBundled(climb) })
  const odd = useQuery(firstIn(id, query.data && climb && isBundled(climb) ? illOf(query.data.counts) : undefined))
  const chosen = get('host')
  const named = useQuery({ ...hostRun(id, chosen, ''), enabled: chosen !== '' && climb !== undefined && isBundled(climb) })
  const d = query.data
  if (!d)
    return (
      <Page title={`Change ${id}`} help="console#change">
        {query.error ? <Problem error={query.error} again={() => void query.refetch()} /> : <Waiting what={`change ${id}`} />}
      </Page>
    )
  const all = known.data?.runs ?? []
  const run = all.find((r) => r.host === chosen) ?? (named.data?.host === chosen ? named.data : undefined) ?? all.find((r) => r.state === illOf(d.counts)) ?? odd.data
  if (get('wall')) return <Wall detail={d} runs={all} up={up} />
  const list = runStates.find((s) => s === get('state'))
  return (
    <Page title={d.title} name={`${d.id}, ${d.title}`} over={`Change ${d.id} · ${d.state}`} help="console#change" action={<Actions detail={d} me={me} />}>
      {!up && <Alert type="warning" title="The connection broke; what you see may be old. It is being tried again." style={{ marginBottom: 12 }} />}
      <Sections of={sectionsOf(d)} />
      <div className="work">
        <div>
          {d.climb && (
            <section aria-label="The climb" id="rollout">
              <h2>
                {d.climb.rolls_back ? 'Roll-back' : d.climb.returns ? 'Going back' : 'Climb'}: {d.climb.state}
                {d.climb.why && d.climb.state !== 'completed' && `, ${d.climb.why}`}
              </h2>
              <Progress detail={d} />
              <Ladder rungs={rungsOf(d.climb)} runs={all} floors={floorsOf(d.rehearsal?.plan)} chosen={run?.host} onChoose={(host) => set('host', host)} onState={(state) => set('state', state)} />
              <div style={{ marginTop: 8 }}>
                <Counts counts={all.length > 0 ? counted(all) : d.counts} notProven={d.climb.not_proven} excused={d.climb.excused} />
              </div>
              <p>
                <Link to={`/changes/${d.id}?wall=yes`}>For the big screen</Link>
              </p>
              {list && <RunList key={list} id={id} state={list} onChoose={(host) => set('host', host)} onClose={() => set('state', '')} />}
              {d.climb.gate && <Gate id={id} gate={d.climb.gate} mayAnswer={me.roles.includes('operator')} />}
              <Course id={id} climb={d.climb.id} moves={goesOn(d)} />
              <Latencies id={id} climb={d.climb.id} moves={goesOn(d)} />
            </section>
          )}
          <Rehearsed detail={d} me={me} />
          <Recorded id={id} />
        </div>
        <aside>
          {run && <HostMargin key={run.host} id={id} digest={d.climb?.digest ?? ''} run={run} maySteer={me.roles.includes('operator') && goesOn(d)} />}
          <h2>What this is</h2>
          <Facts detail={d} />
        </aside>
      </div>
    </Page>
  )
}

// sectionsOf names the parts of the page that there are, with what counts in each.
function sectionsOf(d: ChangeDetail): Section[] {
  const r = d.rehearsal
  const read = r?.ended_at !== undefined
  return [
    ...(d.climb ? [{ id: 'rollout', words: 'Rollout' }] : []),
    ...(read ? [{ id: 'plan', words: 'Plan' }, { id: 'diffs', words: 'Diffs', count: String(r.groups.length) }] : []),
    ...(read && r.findings.length > 0 ? [{ id: 'findings', words: 'Findings', count: String(r.findings.length) }] : []),
    ...(r?.digest ? [{ id: 'review', words: 'Review', count: String(d.approvals.filter((a) => a.verdict === 'approved' && a.digest === r.digest).length) }] : []),
    { id: 'record', words: 'Record' },
  ]
}

function Recorded({ id }: { id: number }) {
  const entries = useQuery(told({ change: id, limit: 20 }))
  return (
    <section aria-label="Record" id="record">
      <h2>Record</h2>
      {entries.error && <Problem error={entries.error} again={() => void entries.refetch()} />}
      {entries.data && <Told entries={entries.data} data />}
      <Link to={`/record?change=${id}`}>All that the record tells of it</Link>
    </section>
  )
}

// counted counts runs by state, as they are drawn beside it.
function counted(runs: HostRun[]): { [state: string]: number } {
  const counts: { [state: string]: number } = {}
  for (const r of runs) counts[r.state] = (counts[r.state] ?? 0) + 1
  return counts
}

function Rehearsed({ detail: d, me }: { detail: ChangeDetail; me: Account }) {
  const [about, setAbout] = useState<About>()
  const r = d.rehearsal
  if (!r) return <p className="second">Not rehearsed yet: nobody knows what it would do.</p>
  if (!r.ended_at)
    return (
      <section aria-label="Rehearsal">
        <h2>The rehearsal reads the hosts</h2>
        <p>
          {r.read} of {r.hosts} so far, begun <Ago at={r.begun_at} />. It changes nothing.
        </p>
        <progress max={r.hosts} value={r.read} aria-label="Hosts read" />
      </section>
    )
  return (
    <>
      {r.plan && <Plan plan={r.plan} climbs={d.climb !== undefined} />}
      <Diffs detail={d} rehearsal={r} me={me} onAbout={setAbout} />
      {r.digest && <Review detail={d} digest={r.digest} me={me} about={about} onAbout={setAbout} />}
    </>
  )
}
