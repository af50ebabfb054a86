import { useState } from 'react'
import type { Account, ChangeDetail, Group } from '../../api/client'
import { counted } from '../../ui/Ago'
import { useKeys } from '../../ui/keys'
import { Findings } from '../../ui/Findings'
import { DiffGroup } from './Groups'
import type { About } from './Review'
import { useRead } from './useRead'

const besideStored = 'wladder.beside'

// alike says how many hosts come to the same, and how many do not.
function alike(groups: Group[]): string {
  const most = Math.max(0, ...groups.map((g) => g.count))
  const rest = groups.reduce((n, g) => n + g.count, 0) - most
  if (rest === 0) return `What it changes: ${most === 1 ? '1 host' : `${most} hosts alike`}`
  return `What it changes: ${most === 1 ? '1 host' : `${most} hosts alike`}, ${rest} ${rest === 1 ? 'differs' : 'differ'} from that`
}

// Diffs are the diff groups of a rehearsal, the odd ones first, to be gone through by keys and
// marked as read.
export function Diffs({ detail: d, rehearsal: r, me, onAbout }: { detail: ChangeDetail; rehearsal: NonNullable<ChangeDetail['rehearsal']>; me: Account; onAbout: (about: About) => void }) {
  const id = d.id
  const { read, mark, error } = useRead(d, me.name)
  const [open, setOpen] = useState<{ [key: string]: boolean }>({})
  const [at, setAt] = useState(-1)
  const [beside, setBeside] = useState(() => localStorage.getItem(besideStored) === 'yes')
  const isOpen = (g: Group) => open[g.key] ?? (r.groups.length <= 3 && !g.known)
  const lay = (next: boolean) => {
    setBeside(next)
    if (next) localStorage.setItem(besideStored, 'yes')
    else localStorage.removeItem(besideStored)
  }
  const go = (to: number) => {
    const next = Math.max(0, Math.min(r.groups.length - 1, to))
    const g = r.groups[next]
    if (!g) return
    setAt(next)
    setOpen({ ...open, [g.key]: true })
    requestAnimationFrame(() => document.querySelector(`[data-group="${CSS.escape(g.key)}"]`)?.scrollIntoView({ block: 'start' }))
  }
  const here = r.groups[at]
  useKeys({
    n: () => go(at + 1),
    p: () => go(at - 1),
    m: () => here && mark(here.key, !read.has(here.key)),
    s: () => lay(!beside),
    c: () => here && r.digest && onAbout({ group: here.key, file: '', line: 0, old: false }),
  })
  const missed = r.hosts - r.planned
  const seen = r.groups.filter((g) => read.has(g.key)).length
  return (
    <section aria-label="What it changes" id="diffs">
      <h2>{alike(r.groups)}</h2>
      {r.groups.length > 0 && (
        <p className="second deeds">
          {r.digest && (
            <span>
              {seen} of {counted(r.groups.length, 'group')} read
            </span>
          )}
          {missed > 0 && (
            <span>
              {counted(missed, 'host')} of {r.hosts} {missed === 1 ? 'is' : 'are'} not in the plan: not reached, a veto, or as it wants already
            </span>
          )}
          <label>
            <input type="checkbox" checked={beside} onChange={(e) => lay(e.target.checked)} /> side by side
          </label>
        </p>
      )}
      {error && <p className="fault">{error.message}</p>}
      {r.findings.length > 0 && (
        <div className="group" id="findings">
          <Findings findings={r.findings} />
        </div>
      )}
      {r.groups.map((g, i) => (
        <DiffGroup
          key={g.key}
          group={g}
          id={id}
          digest={r.digest}
          opened={isOpen(g)}
          onOpen={(o) => {
            setAt(i)
            setOpen({ ...open, [g.key]: o })
          }}
          read={read.has(g.key)}
          onRead={r.digest ? (is) => mark(g.key, is) : undefined}
          at={i === at}
          beside={beside}
          onLine={r.digest ? (where) => onAbout({ ...where, group: g.key }) : undefined}
        />
      ))}
    </section>
  )
}
