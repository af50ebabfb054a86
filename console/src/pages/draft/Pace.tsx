import { Button } from 'antd'
import { Forecast } from '../../ui/Forecast'
import { floorsOf, Ladder, plannedRungs } from '../../ui/Ladder'
import { Expression } from './Expression'
import type { Known } from './completion'
import { add, has, listed, put, said, type Key } from './document'
import { Line, Part, Pick } from './Field'
import { problemsOf } from './problems'
import type { Draft } from './useDraft'

const kinds: [string, string][] = [
  ['up-to', 'up to so many, or a share'],
  ['where', 'those for which holds'],
  ['named', 'these, by name'],
  ['hosts', 'all the others'],
]

const empty: { [kind: string]: unknown } = { 'up-to': '1', where: 'labels.site == ""', named: [''], hosts: 'all' }

// Pace is how fast it goes: stages from the bottom up, and the ladder with its least time, drawn.
export function Pace({ draft, known }: { draft: Draft; known: Known }) {
  const ladder = draft.of && typeof draft.of === 'object' ? (draft.of as { ladder?: unknown }).ladder : undefined
  const stages = listed(ladder, 'stages')
  const outline = draft.check.data?.outline
  const set = (path: Key[], value: unknown) => draft.type(put(draft.text, path, value))
  const text = (key: string) => said(ladder, key)
  const setText = (key: string) => (v: string) => set(['ladder', key], v || undefined)
  return (
    <Part id="pace" title="How fast" problems={problemsOf(draft, 'ladder', 'for')}>
      {stages.map((s, i) => (
        <StageLine key={i} at={i} stage={s} known={known} set={(path, value) => set(['ladder', 'stages', i, ...path], value)} onRemove={() => set(['ladder', 'stages', i], undefined)} />
      ))}
      <div className="deeds">
        <Button size="small" onClick={() => draft.type(add(draft.text, ['ladder', 'stages'], stages.length === 0 ? { 'up-to': '1' } : { hosts: 'all' }))}>
          Another stage
        </Button>
        {stages.length === 0 && <span className="second">Without stages: one host, then a quarter, then all.</span>}
      </div>
      <div className="row">
        <Line label="Out at once, at most" value={text('at_once')} onValue={setText('at_once')} hint="4" size={6} mono />
        <Line label="Of one pool at once" value={text('pool_at_once')} onValue={setText('pool_at_once')} hint="no bound" size={8} mono />
        <Line label="Watched before done" value={text('soak')} onValue={setText('soak')} hint="15s" size={8} mono />
        <Line label="Pause after so many failed" value={text('pause_after')} onValue={setText('pause_after')} hint="1 or 10%" size={8} mono />
        <Pick label="Never two at once of one" value={text('apart')} of={[['', '–'], ...known.labels.map((l): [string, string] => [l.name, l.name])]} onValue={setText('apart')} />
        <Line label="For how long, if not for good" value={said(draft.of, 'for')} onValue={(v) => set(['for'], v || undefined)} hint="for good" size={8} mono />
      </div>
      {outline && (
        <>
          <Ladder planned floors={floorsOf(outline)} rungs={plannedRungs(outline)} />
          <Forecast plan={outline} />
          <ul className="sentences">
            {[...outline.pace, ...outline.pools.map((p) => p.words)].map((words, i) => (
              <li key={i} className="wrap">
                {words}
              </li>
            ))}
          </ul>
        </>
      )}
    </Part>
  )
}

function StageLine({ at, stage, known, set, onRemove }: { at: number; stage: unknown; known: Known; set: (path: Key[], value: unknown) => void; onRemove: () => void }) {
  const kind = kinds.map(([k]) => k).find((k) => has(stage, k)) ?? 'up-to'
  const named = listed(stage, 'named').map(String)
  return (
    <div className="row stage" role="group" aria-label={`Stage ${at + 1}`}>
      <b className="number">{at + 1}</b>
        <Pick label="Takes" value={kind} of={kinds} onValue={(next) => set([], { ...(has(stage, 'gate') ? { gate: true } : {}), [next]: empty[next] })} />
        {kind === 'up-to' && <Line label="Hosts" value={said(stage, 'up-to')} onValue={(v) => set(['up-to'], v)} size={6} hint="2 or 25%" mono />}
        {kind === 'named' && <Line label="Names" value={named.join(', ')} onValue={(v) => set(['named'], v.split(/,\s*/))} size={28} mono />}
        {kind === 'where' && <Expression label="Hosts for which this holds" value={said(stage, 'where')} onValue={(v) => set(['where'], v)} known={known} />}
        <label className="check">
          <input type="checkbox" checked={has(stage, 'gate') && said(stage, 'gate') !== 'false'} onChange={(e) => set(['gate'], e.target.checked || undefined)} /> a person opens a gate below it
        </label>
        <span className="check">
          <Button size="small" aria-label={`Remove stage ${at + 1}`} onClick={onRemove}>
            Remove
          </Button>
        </span>
    </div>
  )
}
