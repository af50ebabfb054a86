import type { Outline } from '../../api/client'
import { counted } from '../../ui/Ago'
import { floorsOf, Ladder, plannedRungs } from '../../ui/Ladder'
import { Forecast } from '../../ui/Forecast'

// most is how many rows of one kind are shown before the others are counted.
const most = 8

// Plan is what a reviewer approves besides the diffs: the edits in words, how fast they go
// out, what is out at most, and what is asked before and after.
export function Plan({ plan, climbs }: { plan: Outline; climbs: boolean }) {
  return (
    <section aria-label="The plan" id="plan">
      <h2>Plan</h2>
      <List of={plan.edits.map((e) => `${e.service ? `${e.service}: ` : ''}${e.words}${e.where ? `; only where ${e.where}` : ''}`)} mono />
      {plan.values && <List of={plan.values.map((v) => `value ${v.name}: ${v.words}`)} mono />}
      {!climbs && <Ladder rungs={plannedRungs(plan)} floors={floorsOf(plan)} planned />}
      {!climbs && <Forecast plan={plan} />}
      <List of={[...plan.pace, ...plan.parts.map((p) => p.words), ...plan.pools.map((p) => p.words), ...(plan.more_pools ? [counted(plan.more_pools, 'more pool')] : [])]} most={most + 4} />
      {plan.probes.length > 0 && <Probes of={plan.probes} />}
    </section>
  )
}

function List({ of, mono, most: up = most }: { of: string[]; mono?: boolean; most?: number }) {
  return (
    <ul className={mono ? 'sentences mono' : 'sentences'}>
      {of.slice(0, up).map((text, i) => (
        <li key={i} className="wrap">{text}</li>
      ))}
      {of.length > up && <li className="second">and {of.length - up} more</li>}
    </ul>
  )
}

function Probes({ of }: { of: Outline['probes'] }) {
  return (
    <div className="scrolls">
      <table className="probes">
        <thead>
          <tr>
            <th>{counted(of.length, 'probe')}</th>
            <th>before</th>
            <th>after</th>
          </tr>
        </thead>
        <tbody>
          {of.slice(0, most).map((p, i) => (
            <tr key={i}>
              <td>
                {p.service && `${p.service}: `}
                {p.name}
                <br />
                <span className="mono second wrap">{p.ask}</span>
                {p.often && <span className="second">, {p.often}</span>}
              </td>
              <td className="mono wrap">{p.before || <span className="second">anything</span>}</td>
              <td className="mono wrap">
                {p.after || <span className="second">anything</span>}
                {p.proves && <div className="second">proves the new values in force</div>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {of.length > most && <p className="second">and {of.length - most} more</p>}
    </div>
  )
}
