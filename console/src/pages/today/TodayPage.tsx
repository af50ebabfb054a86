import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import type { Account, Change, Today } from '../../api/client'
import { today } from '../../api/queries'
import { Ago, counted } from '../../ui/Ago'
import { Page } from '../../ui/Page'
import { SmallLadder } from '../../ui/SmallLadder'
import { Counts, ended, runStates } from '../../ui/StateMark'
import { Problem, Waiting } from '../../ui/States'
import { Told } from '../../ui/Told'
import { Fortnight } from './Fortnight'
import { Halts } from './Halts'
import { Ills } from './Ills'

export function TodayPage({ me }: { me: Account }) {
  const query = useQuery(today())
  const t = query.data
  return (
    <Page title="Today" help="console#today">
      {query.error && <Problem error={query.error} again={() => void query.refetch()} />}
      {query.isPending && <Waiting what="what climbs, what waits for you, and what is unwell" />}
      {t && (
        <div className="work">
          <div>
            <Halts halts={t.halts} mayLift={me.roles.includes('operator')} />
            {t.hosts === 0 || t.services === 0 ? <FirstHour today={t} me={me} /> : <Bands today={t} />}
          </div>
          <aside>
            <Fortnight ahead={t.ahead} />
            <h2>Latest of the record</h2>
            {t.latest.length === 0 ? <p className="second">Nothing has happened yet.</p> : <Told entries={t.latest.slice(0, 8)} />}
            <Link to="/record">The whole record</Link>
          </aside>
        </div>
      )}
    </Page>
  )
}

function Bands({ today: t }: { today: Today }) {
  if (t.climbs.length + t.waits.length + t.unwell.length === 0)
    return (
      <p className="nothing">
        Nothing climbs, nothing waits for you, every host is as it was placed
        {t.latest[0] && (
          <>
            , since <Ago at={t.latest[0].at} />
          </>
        )}
        .
      </p>
    )
  return (
    <>
      {t.climbs.length > 0 && (
        <section aria-label="Climbs">
          <h2>{counted(t.climbs.length, 'climb')} under way</h2>
          <ul className="rows">
            {t.climbs.map((c) => (
              <Climb key={c.id} climb={c} />
            ))}
          </ul>
        </section>
      )}
      {t.waits.length > 0 && <Waits waits={t.waits} />}
      {t.unwell.length > 0 && <Ills unwell={t.unwell} />}
    </>
  )
}

function Climb({ climb: c }: { climb: Change }) {
  const rungs = c.rungs ?? []
  const left = rungs.find((r) => runStates.some((s) => !ended(s) && r.counts[s]))
  return (
    <li className="climb-row">
      <SmallLadder of={c} />
      <div>
        <Link to={`/changes/${c.id}`}>
          {c.title} <span className="second">no. {c.id}</span>
        </Link>
        <div className="second">
          {c.climb_state}
          {left && `, stage ${left.stage + 1} of ${Math.max(...rungs.map((r) => r.stage)) + 1}`}
          {c.climbing_since && (
            <>
              , begun <Ago at={c.climbing_since} />
            </>
          )}
          {c.why && <span className="wrap">: {c.why}</span>}
        </div>
        <div className="second wrap">Next: {c.next}</div>
      </div>
      <Counts counts={c.counts} />
    </li>
  )
}

type Wait = Today['waits'][number]

// kinds says what is wanted of a person, and what of.
const kinds: { [kind: string]: string } = {
  gate: 'Gates to open',
  paused: 'Paused: go on, stop or roll back',
  review: 'To review',
  'review-afterwards': 'To review: it was approved alone',
  climb: 'Approved, and ready to climb',
  returns: 'Go back within the day',
  draft: 'Drafts of yours',
  request: 'A second admin has to agree',
}

function Waits({ waits }: { waits: Wait[] }) {
  const groups = Object.keys(kinds).map((kind) => ({ kind, all: waits.filter((w) => w.kind === kind) }))
  return (
    <section aria-label="Waits for you">
      <h2>Waits for you</h2>
      {groups.map(
        ({ kind, all }) =>
          all.length > 0 && (
            <div key={kind}>
              <h3>
                {kinds[kind]} <span className="second">{all.length}</span>
              </h3>
              <ul className="rows">
                {all.map((w, i) => (
                  <li key={w.change ?? i} className="wait-row">
                    <Link to={w.change ? `/changes/${w.change}` : '/people'}>{w.title}</Link>
                    <span className="second">
                      {w.hosts ? `${counted(w.hosts, 'host')}, ` : ''}
                      {w.vetoes ? `${counted(w.vetoes, 'host')} with a veto, ` : ''}
                      {w.warnings ? `${counted(w.warnings, 'host')} with a warning, ` : ''}
                      {w.author && `by ${w.author}, `}
                      {w.until ? <>until <Ago at={w.until} /></> : <>since <Ago at={w.since} /></>}
                    </span>
                  </li>
                ))}
              </ul>
            </div>
          ),
      )}
    </section>
  )
}

// FirstHour leads through what comes first where there is nothing yet.
function FirstHour({ today: t, me }: { today: Today; me: Account }) {
  const admin = me.roles.includes('admin')
  return (
    <section aria-label="The first hour">
      <h2>The first hour</h2>
      <ol className="checks">
        <li>
          {t.hosts > 0 ? '✓ ' : ''}Add hosts: {t.hosts > 0 ? `${counted(t.hosts, 'host')} so far.` : admin ? <Link to="/hosts">on the page of hosts</Link> : 'an admin does that.'} The server signs in to them with its own key; put its public half where they look for it (“About this page” says how).
        </li>
        <li>
          {t.services > 0 ? '✓ ' : ''}Load a definition of a service, and have a second admin approve it: {t.services > 0 ? `${counted(t.services, 'service')} so far.` : <Link to="/services">on the page of services</Link>}
        </li>
        <li>
          Draft a change: <Link to="/changes">on the page of changes</Link>. It is rehearsed before it changes anything.
        </li>
      </ol>
    </section>
  )
}
