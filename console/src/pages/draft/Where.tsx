import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { services } from '../../api/queries'
import { counted } from '../../ui/Ago'
import { Choice } from '../../ui/Sentence'
import type { Known } from './completion'
import { has, listed, put, said } from './document'
import { Expression } from './Expression'
import { Line, Part, Pick } from './Field'
import { problemsOf } from './problems'
import type { Draft } from './useDraft'

const equal = /^labels(?:\.([\w-]+)|\["([^"]+)"\])\s*==\s*"([^"]*)"$/

// picked reads an expression that names labels alone; undefined of any other.
function picked(where: string): { [label: string]: string } | undefined {
  const out: { [label: string]: string } = {}
  if (where.trim() === '' || where.trim() === 'true') return out
  for (const part of where.split('&&')) {
    const found = equal.exec(part.trim())
    if (!found) return undefined
    out[found[1] ?? found[2] ?? ''] = found[3] ?? ''
  }
  return out
}

function written(labels: { [label: string]: string }): string {
  return Object.entries(labels)
    .map(([name, value]) => `labels${/^[A-Za-z_]\w*$/.test(name) ? `.${name}` : `["${name}"]`} == ${JSON.stringify(value)}`)
    .join(' && ')
}

// Where is which service, and on which hosts: by labels, or by an expression.
export function Where({ draft, known }: { draft: Draft; known: Known }) {
  const list = useQuery(services())
  const where = said(draft.of, 'where')
  const by = picked(where)
  const several = listed(draft.of, 'services')
  const c = draft.check.data
  const set = (key: string, value: string) => draft.type(put(draft.text, [key], value))
  const pick = (label: string, value: string) => {
    const next = { ...by }
    if (value) next[label] = value
    else delete next[label]
    set('where', written(next))
  }
  return (
    <Part id="where" title="Which service, and where" problems={problemsOf(draft, 'service', 'services', 'where', 'count', 'change')}>
      {several.length > 0 ? (
        <p>
          Services, in this order: {several.map(String).join(', ')}. <span className="second">Their list is changed under “As YAML”.</span>
        </p>
      ) : (
        <Pick label="Service" value={said(draft.of, 'service')} of={[['', 'none yet'], ...(list.data ?? []).map((s): [string, string] => [s.name, `${s.name}: ${s.title}`])]} onValue={(v) => set('service', v)} />
      )}
      {by && known.labels.length > 0 && (
        <p className="filter">
          Hosts of{' '}
          {known.labels.map((l, i) => (
            <span key={l.name}>
              {i > 0 && ', '}
              {l.name} <Choice label={`Label ${l.name}`} value={by[l.name] ?? ''} any="any" of={l.values.map((v): [string, string] => [v.value, `${v.value} (${v.hosts})`])} onChange={(v) => pick(l.name, v)} />
            </span>
          ))}
        </p>
      )}
      <Expression label="Hosts for which this holds" value={where} onValue={(v) => set('where', v)} known={known} hint={'labels.role == "bulletin" && cores >= 4'} />
      {c && (
        <p className="wrap second" aria-live="polite">
          {c.hosts === 0 ? 'No host fits.' : `${counted(c.hosts, 'host')} ${c.hosts === 1 ? 'fits' : 'fit'} now: `}
          {c.first.join(', ')}
          {c.hosts > c.first.length && (
            <>
              {' '}
              and{' '}
              <Link to={`/hosts?where=${encodeURIComponent(where)}`} target="_blank">
                {c.hosts - c.first.length} more
              </Link>
            </>
          )}
        </p>
      )}
      <div className="row">
        <Line label="How many hosts you expect" value={said(draft.of, 'count')} onValue={(v) => set('count', v)} hint="24 or 20..26" mono />
        {c && c.hosts > 0 && said(draft.of, 'count') !== String(c.hosts) && (
          <button type="button" className="plain-button" onClick={() => set('count', String(c.hosts))}>
            exactly these {c.hosts}
          </button>
        )}
      </div>
      {has(draft.of, 'bring-into-force') && <p className="second">It brings what is saved already into force ({said(draft.of, 'bring-into-force')}).</p>}
    </Part>
  )
}
