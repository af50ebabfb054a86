import type { Finding, Group } from '../../api/client'
import { counted } from '../../ui/Ago'
import { Diff } from '../../ui/Diff'

const shownHosts = 12

export function Findings({ findings }: { findings: Finding[] }) {
  if (findings.length === 0) return null
  return (
    <ul>
      {findings.map((f, i) => (
        <li className={`finding ${f.level}`} key={i}>
          <b>{f.level}</b>
          <span className="wrap">
            {f.file && <span className="mono">{f.line ? `${f.file}:${f.line}` : f.file}: </span>}
            {f.text}
          </span>
        </li>
      ))}
    </ul>
  )
}

// DiffGroup is what a change comes to on hosts where it comes to the same.
export function DiffGroup({ group }: { group: Group }) {
  const rest = group.hosts.length - shownHosts
  return (
    <section className="group" data-group={group.key}>
      <header>
        <span>{counted(group.hosts.length, 'host')}</span>
        {group.act && <span>then {group.act}</span>}
        <span className="second" title={group.hosts.join(', ')}>
          {group.hosts.slice(0, shownHosts).join(', ')}
          {rest > 0 && ` and ${rest} more`}
        </span>
      </header>
      <Findings findings={group.findings} />
      {group.alterations.length > 0 && (
        <ul className="mono">
          {group.alterations.map((a) => (
            <li key={a.address} className="wrap">
              {a.address}: {a.kind === 'changed' ? `${a.old} → ${a.new}` : a.kind === 'added' ? `added, ${a.new}` : `removed, was ${a.old}`}
            </li>
          ))}
        </ul>
      )}
      {group.diff && <Diff text={group.diff} />}
    </section>
  )
}
