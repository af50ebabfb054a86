import { useQuery } from '@tanstack/react-query'
import { Alert } from 'antd'
import { useState } from 'react'
import { useParams } from 'react-router'
import type { Account, ChangeDetail, Group, HostRun, RunState } from '../../api/client'
import { change, firstIn, runs } from '../../api/queries'
import { useStream } from '../../api/stream'
import { isBundled, Ladder, rungsOf } from '../../ui/Ladder'
import { Counts } from '../../ui/StateMark'
import { goesOn } from './actions'
import { Actions } from './Actions'
import { Facts } from './Facts'
import { Gate } from './Gate'
import { DiffGroup, Findings } from './Groups'
import { HostMargin } from './HostMargin'
import { Plan } from './Plan'
import { Review, type About } from './Review'

export function ChangePage({ me }: { me: Account }) {
  const id = Number(useParams().id)
  const query = useQuery(change(id))
  const up = useStream(id)
  const [chosen, setChosen] = useState<string>()
  const climb = query.data?.climb
  const known = useQuery({ ...runs(id, climb?.id ?? 0), enabled: climb !== undefined && !isBundled(climb) })
  const odd = useQuery(firstIn(id, query.data && climb && isBundled(climb) ? worst(query.data) : undefined))
  if (query.isPending) return <main className="second">Reading change {id} …</main>
  if (!query.data) return <main><Alert type="error" title={query.error?.message} /></main>
  const d = query.data
  const all = known.data?.runs ?? []
  const run = all.find((r) => r.host === chosen) ?? all.find((r) => r.state === worst(d)) ?? odd.data
  return (
    <main>
      {!up && <Alert type="warning" title="The connection broke; what you see may be old. It is being tried again." style={{ marginBottom: 12 }} />}
      <div className="head">
        <div>
          <span className="second">
            Change {d.id} · {d.state}
          </span>
          <h1>{d.title}</h1>
        </div>
        <Actions detail={d} me={me} />
      </div>
      <div className="work">
        <div>
          {d.climb && (
            <section aria-label="The climb">
              <h2 style={{ marginTop: 0 }}>
                {d.climb.rolls_back ? 'Roll-back' : d.climb.returns ? 'Going back' : 'Climb'}: {d.climb.state}
                {d.climb.why && d.climb.state !== 'completed' && `, ${d.climb.why}`}
              </h2>
              <Ladder rungs={rungsOf(d.climb)} runs={all} chosen={run?.host} onChoose={setChosen} />
              <div style={{ marginTop: 8 }}>
                <Counts counts={all.length > 0 ? counted(all) : d.counts} notProven={d.climb.not_proven} excused={d.climb.excused} />
              </div>
              {d.climb.gate && <Gate id={id} gate={d.climb.gate} mayAnswer={me.roles.includes('operator')} />}
            </section>
          )}
          <Rehearsed detail={d} me={me} />
        </div>
        <aside>
          {run && <HostMargin id={id} run={run} maySteer={me.roles.includes('operator') && goesOn(d)} />}
          <h2 style={run ? undefined : { marginTop: 0 }}>What this is</h2>
          <Facts detail={d} />
        </aside>
      </div>
    </main>
  )
}

// counted counts runs by state, as they are drawn beside it.
function counted(runs: HostRun[]): { [state: string]: number } {
  const counts: { [state: string]: number } = {}
  for (const r of runs) counts[r.state] = (counts[r.state] ?? 0) + 1
  return counts
}

// worst is the state of the host to look at first, where nobody chose one.
function worst(d: ChangeDetail): RunState | undefined {
  const order: RunState[] = ['stranded', 'unknown', 'restoring', 'restored', 'passed-over']
  return order.find((s) => d.counts[s])
}

// alike says how many hosts come to the same, and how many do not.
function alike(groups: Group[]): string {
  const most = Math.max(0, ...groups.map((g) => g.count))
  const rest = groups.reduce((n, g) => n + g.count, 0) - most
  if (rest === 0) return `What it changes: ${most === 1 ? '1 host' : `${most} hosts alike`}`
  return `What it changes: ${most === 1 ? '1 host' : `${most} hosts alike`}, ${rest} ${rest === 1 ? 'differs' : 'differ'} from that`
}

function Rehearsed({ detail: d, me }: { detail: ChangeDetail; me: Account }) {
  const [about, setAbout] = useState<About>()
  const r = d.rehearsal
  if (!r) return <p className="second">Not rehearsed yet: nobody knows what it would do.</p>
  if (!r.ended_at) return <p className="second">The rehearsal reads the hosts: {r.read} of {r.hosts} so far.</p>
  return (
    <>
      {r.plan && <Plan plan={r.plan} climbs={d.climb !== undefined} />}
      <section aria-label="What it changes">
        <h2>{alike(r.groups)}</h2>
        {r.findings.length > 0 && (
          <div className="group">
            <Findings findings={r.findings} />
          </div>
        )}
        {r.groups.map((g) => (
          <DiffGroup key={g.key} group={g} open={r.groups.length <= 3} id={d.id} digest={r.digest} onLine={r.digest ? (at) => setAbout({ ...at, group: g.key }) : undefined} />
        ))}
      </section>
      {r.digest && <Review detail={d} digest={r.digest} me={me} about={about} onAbout={setAbout} />}
    </>
  )
}
