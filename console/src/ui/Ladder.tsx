import type { KeyboardEvent } from 'react'
import type { Climb, HostRun, Outline, RunState } from '../api/client'
import { ended, runStates, Shape } from './StateMark'

type Stage = Climb['policy']['stages'][number]

const cell = 24
const rail = 14
const bundleFrom = 500

export function stageName(s: Stage): string {
  if (s.again) return 'those not reached, once more'
  if (s.count) return `up to ${s.count}`
  if (s.percent === 100) return 'all'
  if (s.percent) return `up to ${s.percent} %`
  if (s.named?.length) return s.named.length === 1 ? s.named.join() : `${s.named.length} named hosts`
  return s.where ?? 'the rest'
}

// Rung is a stage with its hosts, which may be none.
export interface Rung {
  stage: number // from 0
  name: string
  gate?: boolean
  hosts: number
  counts: { [state: string]: number }
}

// rungsOf gives the rungs of a climb, a rung for each of its stages: one that takes no host is there,
// too, so that the others stand where they are counted.
export function rungsOf(climb: Climb): Rung[] {
  const found = climb.policy.stages.map((s, stage): Rung => {
    const rung = climb.rungs.find((r) => r.stage === stage)
    return { stage, name: stageName(s), gate: s.gate, hosts: rung?.hosts ?? 0, counts: rung?.counts ?? {} }
  })
  const beyond = climb.rungs.filter((r) => r.stage >= found.length).map((r): Rung => ({ ...r, name: '' }))
  return [...found.filter((r) => r.hosts > 0 || !climb.policy.stages[r.stage]?.again), ...beyond]
}

// Floor is how many hosts of a pool stay well whatever happens: a mark on the rail, as high as their
// share.
export interface Floor {
  pool: string
  keep: number
  hosts: number
}

interface Props {
  rungs: Rung[]
  runs?: HostRun[] // those that are known; without, hosts are counted
  planned?: boolean // nothing is under way
  floors?: Floor[]
  chosen?: string
  onChoose?: (host: string) => void
  onState?: (state: RunState) => void // a bundle opens to a list
}

// Ladder draws a climb to scale: a rung per stage from the bottom up, the
// hosts of a stage as cells on it, the present rung heaviest, a gate as a bar.
export function Ladder({ rungs, runs, planned, floors = [], chosen, onChoose = () => undefined, onState }: Props) {
  const stages = rungs.map((r) => ({ ...r, number: r.stage + 1, runs: (runs ?? []).filter((run) => run.stage === r.stage) }))
  const present = planned ? -1 : Math.min(...rungs.filter((r) => runStates.some((s) => !ended(s) && r.counts[s])).map((r) => r.stage))
  const most = Math.max(...stages.map((s) => s.hosts))
  const bundled = !runs || stages.reduce((n, s) => n + s.hosts, 0) >= bundleFrom
  const perRow = Math.min(Math.max(most, 12), 28)
  const width = 2 * rail + (bundled && !planned ? 28 : perRow) * cell
  const label = 200
  const heights = stages.map((s) => (bundled ? 1 : Math.ceil(s.hosts / perRow)) * cell + 18)
  const total = heights.reduce((a, b) => a + b, 0) + 20
  const first = stages.find((s) => s.runs.length > 0)?.runs[0]?.host
  const stop = runs?.some((r) => r.host === chosen) ? chosen : first // the one cell that Tab comes to
  const tops = stages.map((_, i) => total - 10 - heights.slice(0, i + 1).reduce((a, b) => a + b, 0))
  return (
    <svg className="ladder" viewBox={`0 0 ${width + label} ${total}`} style={{ maxWidth: width + label }} role="group" aria-label="The ladder: one rung per stage, from the bottom up" onKeyDown={walk}>
      {floors.map((f) => {
        const y = total - (f.keep / Math.max(1, f.hosts)) * total
        return (
          <path key={f.pool} className="floor" d={`M0,${y} H${rail}`} role="img" aria-label={`Of ${f.pool} ${f.keep} of ${f.hosts} hosts stay well`}>
            <title>{`${f.pool}: ${f.keep} of ${f.hosts} hosts stay well`}</title>
          </path>
        )
      })}
      <path className="rail" d={`M${rail / 2},0 V${total} M${width - rail / 2},0 V${total}`} />
      {stages.map((s, i) => {
        const top = tops[i] ?? 0
        const foot = top + (heights[i] ?? 0) - 8
        const here = s.number - 1 === present
        return (
          <g key={s.number}>
            <path className={here ? 'rung present' : 'rung'} d={`M${rail / 2},${foot} H${width - rail / 2}`} />
            {s.gate && <path className="gate" d={`M0,${foot + 7} H${width}`} />}
            <text x={width + 10} y={foot - 13} style={{ fill: here ? 'var(--ink)' : undefined, fontWeight: here ? 600 : 400 }}>
              stage {s.number}: {s.hosts === 0 ? 'no hosts' : s.hosts === 1 ? '1 host' : `${s.hosts} hosts`}
              {here ? ', now' : ''}
            </text>
            <text x={width + 10} y={foot + 3}>
              <title>{s.name}</title>
              {s.name.length > 30 ? `${s.name.slice(0, 29)}…` : s.name}
              {s.gate ? ', gate below' : ''}
            </text>
            {planned && s.hosts <= perRow ? Array.from({ length: s.hosts }, (_, k) => (
              <g key={k} transform={`translate(${rail + k * cell + cell / 2},${foot - 2 - cell / 2})`}>
                <Shape state="queued" />
              </g>
            )) : bundled ? <Bundle counts={s.counts} y={foot - cell / 2} planned={planned} onState={onState} /> : s.runs.map((r, k) => (
              <Cell key={r.id} run={r} x={rail + (k % perRow) * cell + cell / 2} y={foot - 2 - cell / 2 - Math.floor(k / perRow) * cell} chosen={r.host === chosen} stop={r.host === stop} onChoose={onChoose} />
            ))}
          </g>
        )
      })}
    </svg>
  )
}

// isBundled tells whether a climb has too many hosts for a cell each.
export function isBundled(climb: Climb): boolean {
  return climb.rungs.reduce((n, r) => n + r.hosts, 0) >= bundleFrom
}

// walk goes with the arrows from cell to cell: to the nearest in that direction.
function walk(e: KeyboardEvent<SVGSVGElement>) {
  const [dx = 0, dy = 0] = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowDown: [0, 1], ArrowUp: [0, -1] }[e.key] ?? [0, 0]
  const from = (e.target as Element).closest('.cell')
  if ((!dx && !dy) || !from) return
  e.preventDefault()
  const at = from.getBoundingClientRect()
  let best: SVGGElement | undefined
  let least = Infinity
  for (const to of e.currentTarget.querySelectorAll<SVGGElement>('.cell')) {
    const r = to.getBoundingClientRect()
    const [x, y] = [r.left - at.left, r.top - at.top]
    const along = x * dx + y * dy
    const aside = Math.abs(x * dy) + Math.abs(y * dx)
    if (along < 4 || aside > (dx ? 4 : 4000)) continue
    if (along * 10 + aside < least) [best, least] = [to, along * 10 + aside]
  }
  best?.focus()
}

function Cell({ run, x, y, chosen, stop, onChoose }: { run: HostRun; x: number; y: number; chosen: boolean; stop: boolean; onChoose: (host: string) => void }) {
  const words = `${run.host}: ${run.state}${run.step && !ended(run.state) ? `, ${run.step}` : ''}${run.why && run.state !== 'done' ? `. ${run.why}` : ''}`
  const press = (e: KeyboardEvent) => {
    if (e.key === 'Enter' || e.key === ' ') {
      e.preventDefault()
      onChoose(run.host)
    }
  }
  return (
    <g className={chosen ? 'cell chosen' : 'cell'} transform={`translate(${x},${y})`} tabIndex={stop ? 0 : -1} role="button" aria-pressed={chosen} aria-label={words} data-host={run.host} data-state={run.state} onClick={() => onChoose(run.host)} onKeyDown={press}>
      <title>{words}</title>
      <rect className="spot" x={-cell / 2 + 1} y={-cell / 2 + 1} width={cell - 2} height={cell - 2} rx={3} />
      <Shape state={run.state} />
    </g>
  )
}

// Bundle counts the hosts of a long rung by state, worst first; each opens to a list.
function Bundle({ counts, y, planned, onState }: { counts: { [state: string]: number }; y: number; planned?: boolean; onState?: (state: RunState) => void }) {
  const worst = [...runStates].reverse().filter((s) => counts[s])
  return (
    <>
      {worst.map((s, i) => (
        <g
          key={s}
          className={onState ? 'cell' : undefined}
          transform={`translate(${rail + 16 + i * 110},${y})`}
          {...(onState && {
            tabIndex: 0,
            role: 'button',
            'aria-label': `List the ${counts[s]} ${s}`,
            'data-bundle': s,
            onClick: () => onState(s),
            onKeyDown: (e: KeyboardEvent) => {
              if (e.key === 'Enter' || e.key === ' ') {
                e.preventDefault()
                onState(s)
              }
            },
          })}
        >
          {onState && <rect className="spot" x={-11} y={-11} width={108} height={22} rx={3} />}
          <Shape state={s} />
          <text x={12} y={4}>
            {planned ? `× ${counts[s]}` : `${counts[s]} ${s}`}
          </text>
        </g>
      ))}
    </>
  )
}

// plannedRungs gives the rungs of a plan: a host that is alone on one by its name.
export function plannedRungs(plan: Outline): Rung[] {
  const last = Math.max(-1, ...plan.stages.map((s) => s.stage))
  return Array.from({ length: last + 1 }, (_, stage): Rung => {
    const s = plan.stages.find((one) => one.stage === stage)
    if (!s) return { stage, name: '', hosts: 0, counts: {} }
    return { stage, name: s.hosts.count === 1 ? s.hosts.first.join() : s.takes, gate: s.gate, hosts: s.hosts.count, counts: { queued: s.hosts.count } }
  })
}

// floorsOf gives the floors of a plan's pools.
export function floorsOf(plan: Outline | undefined): Floor[] {
  return (plan?.pools ?? []).filter((p) => p.keep > 0).map((p) => ({ pool: p.name ? `pool ${p.name} of ${p.service}` : p.service, keep: p.keep, hosts: p.hosts }))
}
