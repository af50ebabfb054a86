import { useQuery } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import { lazy, Suspense, useMemo } from 'react'
import { Link, useSearchParams } from 'react-router'
import type { Outline } from '../../api/client'
import { draftKeys, labels, secrets, serviceInForce, serviceParts, services } from '../../api/queries'
import { counted } from '../../ui/Ago'
import { Findings } from '../../ui/Findings'
import { Problem, Waiting } from '../../ui/States'
import { Copied } from './Copied'
import { inYAML, type Known } from './completion'
import { said, listed } from './document'
import { Edits } from './Edits'
import { Judge } from './Judge'
import { OnHost } from './OnHost'
import { Pace } from './Pace'
import { useDraft, type Begun, type Draft } from './useDraft'
import { Where } from './Where'
import { Why } from './Why'

const CodeEditor = lazy(() => import('./CodeEditor'))

// Write is a change that is being written: by its parts, or as the YAML that they make up. Both are
// views of one text.
export function Write(begun: Begun) {
  const draft = useDraft(begun)
  const [params, setParams] = useSearchParams()
  const asYAML = params.get('as') === 'yaml'
  const show = (yaml: boolean) =>
    setParams((before) => {
      const next = new URLSearchParams(before)
      if (yaml) next.set('as', 'yaml')
      else next.delete('as')
      return next
    })
  const known = useKnown(draft)
  return (
    <div className="work drafting">
      <div>
        <p className="words">
          <button type="button" aria-pressed={!asYAML} onClick={() => show(false)}>
            By its parts
          </button>
          <button type="button" aria-pressed={asYAML} onClick={() => show(true)}>
            As YAML
          </button>
        </p>
        {draft.unsaved && (
          <p className="second">
            Not saved yet: kept in this browser.{' '}
            <button type="button" className="plain-button" onClick={draft.throwAway}>
              Throw it away
            </button>
          </p>
        )}
        {asYAML ? (
          <Suspense fallback={<Waiting what="the editor" />}>
            <CodeEditor label="The change, as YAML" text={draft.text} onText={draft.type} complete={(context) => inYAML(context, known)} faults={draft.problems} />
          </Suspense>
        ) : draft.of === undefined ? (
          <Alert type="warning" title="The text cannot be read as YAML." description={<span className="wrap">{draft.unreadable} Mend it under “As YAML”.</span>} />
        ) : (
          <Parts draft={draft} known={known} />
        )}
        <Save draft={draft} />
      </div>
      <aside>
        <Checked draft={draft} />
        <OnHost draft={draft} />
      </aside>
    </div>
  )
}

function Parts({ draft, known }: { draft: Draft; known: Known }) {
  return (
    <Suspense fallback={<Waiting what="the editor" />}>
      <Where draft={draft} known={known} />
      <Edits draft={draft} known={known} />
      <Copied draft={draft} known={known} />
      <Pace draft={draft} known={known} />
      <Judge draft={draft} known={known} />
      <Why draft={draft} />
    </Suspense>
  )
}

// useKnown gathers what is offered to whoever writes.
function useKnown(draft: Draft): Known {
  const name = said(draft.of, 'service') || String(listed(draft.of, 'services')[0] ?? '')
  const list = useQuery(services())
  const inForce = useQuery({ ...serviceInForce(name), enabled: list.data?.some((s) => s.name === name) ?? false })
  const parts = useQuery({ ...serviceParts(name, inForce.data?.version ?? 0), enabled: inForce.data !== undefined })
  const all = useQuery(labels())
  const kept = useQuery(secrets())
  const keys = useQuery(draftKeys())
  return useMemo(
    () => ({ labels: all.data ?? [], parts: parts.data?.service.name === name ? parts.data : undefined, services: (list.data ?? []).map((s) => s.name), secrets: (kept.data ?? []).map((s) => s.name), keys: keys.data ?? {} }),
    [all.data, parts.data, name, list.data, kept.data, keys.data],
  )
}

function Save({ draft: d }: { draft: Draft }) {
  return (
    <>
      {d.save.error && !d.overtaken && <Alert type="error" title={<span className="wrap">{d.save.error.message}</span>} />}
      {d.overtaken && (
        <Alert
          type="warning"
          title={<span className="wrap">{d.save.error?.message}</span>}
          description={
            d.newer && (
              <>
                <pre className="mono wrap">{d.newer.source}</pre>
                <Button onClick={() => d.newer && d.takeOver(d.newer.revision)}>I took over what I want of revision {d.newer.revision}</Button>
              </>
            )
          }
        />
      )}
      <div className="buttons">
        <Button type="primary" disabled={d.problems.length > 0 || d.unreadable !== '' || d.untouched} loading={d.save.isPending} onClick={() => d.save.mutate()}>
          {d.change ? `Save as revision ${d.revision + 1}` : 'Draft it'}
        </Button>
        {d.change > 0 && <Link to={`/changes/${d.change}`}>Back to change {d.change}</Link>}
      </div>
      <p className="second">It is rehearsed before anything changes, and approved by somebody else.</p>
    </>
  )
}

// Checked says what is wrong with the text, or what it comes to.
function Checked({ draft: d }: { draft: Draft }) {
  const c = d.check.data
  return (
    <section aria-live="polite" aria-label="What it says">
      <h2>What it says</h2>
      {d.check.error ? <Problem error={d.check.error} /> : null}
      {c && c.problems.length === 0 && <p>Nothing is wrong with the text.</p>}
      {c && c.problems.length > 0 && (
        <ul className="sentences">
          {c.problems.map((p, i) => (
            <li key={i} className="wrap">
              {p.line > 0 && <b>line {p.line}: </b>}
              {p.text}
            </li>
          ))}
        </ul>
      )}
      {c && (
        <p className="wrap">
          {c.hosts === 0 ? 'It fits no host.' : `It fits ${counted(c.hosts, 'host')}: ${c.first.join(', ')}${c.hosts > c.first.length ? ` and ${c.hosts - c.first.length} more` : ''}.`}
          {c.without > 0 && ` ${counted(c.without, 'host')} of them ${c.without === 1 ? 'does' : 'do'} not carry the service, or ${c.without === 1 ? 'is' : 'are'} set aside.`}
        </p>
      )}
      {c && <Findings findings={c.doubts.map((text) => ({ level: 'veto', code: '', text }))} />}
      {c?.outline && <p className="second">{leastOf(c.outline)}</p>}
    </section>
  )
}

function leastOf(o: Outline): string {
  return `${counted(o.stages.length, 'stage')}; ${o.pace[0] ?? ''}`
}
