import { Link } from 'react-router'
import type { Group } from '../../api/client'
import { counted } from '../../ui/Ago'
import { Diff, type Place } from '../../ui/Diff'
import { Findings } from '../../ui/Findings'
import { WholeFiles } from './WholeFiles'

// shownHosts is how many hosts a group names, opened and not.
const shownHosts = { opened: 12, closed: 4 }

// altered says in words what becomes of a setting or a path.
function altered(a: Group['alterations'][number]): string {
  switch (a.kind) {
    case 'added':
      return `added, ${a.new}`
    case 'removed':
      return `removed, was ${a.old}`
    case 'commented-out':
      return `commented out, was ${a.old}`
    case 'uncommented':
      return `no longer commented out, ${a.new}`
    case 'moved':
      return a.old ? `moved, was ${a.old}` : 'moved within its block'
    case 'new':
    case 'made':
      return `${a.kind}, ${a.new}`
    case 'deleted':
    case 'unlinked':
      return `${a.kind}, was ${a.old}`
    case 'linked':
      return a.old ? `link ${a.old} → ${a.new}` : `a link to ${a.new}`
    case 'mode':
    case 'owner':
      return `${a.kind} ${a.old} → ${a.new}`
  }
  return `${a.old} → ${a.new}`
}

interface Props {
  group: Group
  id: number
  digest: string
  opened: boolean
  onOpen: (opened: boolean) => void
  read: boolean
  onRead?: (read: boolean) => void // none: there is no plan whose parts were read
  at: boolean // it is the one that keys act on
  beside: boolean
  onLine?: (at: Place) => void
}

// DiffGroup is what a change comes to on hosts where it comes to the same. Of many groups
// each is told in a line or two, and opens.
export function DiffGroup({ group, id, digest, opened, onOpen, read, onRead, at, beside, onLine }: Props) {
  const names = group.hosts.slice(0, opened ? shownHosts.opened : shownHosts.closed)
  const rest = group.count - names.length
  return (
    <section className={at ? 'group at' : 'group'} data-group={group.key} aria-label={`Diff group of ${counted(group.count, 'host')}`}>
      <header>
        <button type="button" className="opener" aria-expanded={opened} onClick={() => onOpen(!opened)}>
          {opened ? '▾' : '▸'} {counted(group.count, 'host')}
        </button>
        {group.act && <span>then {group.act}</span>}
        <span className="second hosts">
          {names.map((h, i) => (
            <span key={h}>
              {i > 0 && ', '}
              <Link to={`/hosts/${encodeURIComponent(h)}`}>{h}</Link>
            </span>
          ))}
          {rest > 0 && ` and ${rest} more`}
        </span>
        {onRead && (
          <label className="read">
            <input type="checkbox" checked={read} onChange={(e) => onRead(e.target.checked)} /> read
          </label>
        )}
      </header>
      {group.known && <p className="differs">The very same as approved in change {group.known}</p>}
      {group.differs && <p className="differs wrap">Differs: {group.differs.join('; ')}</p>}
      <Findings findings={opened ? group.findings : group.findings.filter((f) => f.level !== 'note')} />
      {group.alterations.length > 0 && (opened || !group.differs) && (
        <ul className="mono">
          {group.alterations.map((a) => (
            <li key={`${a.address} ${a.kind}`} className="wrap">
              {a.kind === 'comments' ? 'only comments or spacing' : `${a.address}: ${altered(a)}`}
            </li>
          ))}
        </ul>
      )}
      {opened && group.diff && <Diff text={group.diff} onLine={onLine} beside={beside} />}
      {opened && group.diff && digest && <WholeFiles id={id} digest={digest} group={group} />}
    </section>
  )
}
