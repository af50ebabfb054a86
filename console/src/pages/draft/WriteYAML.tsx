import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import { useEffect, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { Refusal, type Account, type DraftChecked } from '../../api/client'
import { change as changeQuery, checked, draft, revise } from '../../api/queries'
import { counted } from '../../ui/Ago'
import { Problem } from '../../ui/States'
import { useKept } from './useKept'

// WriteYAML is a change as text: what is wrong stands at its line, and how many hosts it fits beside.
// What is not saved is kept in this browser, for this person and change.
export function WriteYAML({ me, change, basis, source }: { me: Account; change: number; basis: number; source: string }) {
  const cache = useQueryClient()
  const go = useNavigate()
  const [kept, keep] = useKept(`${me.name} ${change}`)
  const [text, setText] = useState(kept?.text ?? source)
  const [on, setOn] = useState(kept?.basis ?? basis)
  const [asked, setAsked] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setAsked(text), 400)
    return () => clearTimeout(timer)
  }, [text])
  const check = useQuery(checked(asked))
  const save = useMutation({
    mutationFn: () => (change ? revise(change, on, text) : draft(text)),
    onSuccess: (made) => {
      keep(undefined)
      void cache.invalidateQueries({ queryKey: changeQuery(made.id).queryKey })
      void go(`/changes/${made.id}`)
    },
  })
  const overtaken = save.error instanceof Refusal && save.error.status === 412
  const newer = useQuery({ ...changeQuery(change), enabled: overtaken, staleTime: 0 })
  const type = (next: string) => {
    setText(next)
    keep(next === source ? undefined : { text: next, basis: on })
  }
  const problems = check.data?.problems ?? []
  return (
    <div className="work">
      <div>
        {kept && (
          <p className="second">
            Not saved yet: kept in this browser.{' '}
            <button
              type="button"
              className="plain-button"
              onClick={() => {
                type(source)
                setOn(basis)
              }}
            >
              Throw it away
            </button>
          </p>
        )}
        <Editor text={text} onText={type} problems={problems} />
        {save.error && !overtaken && <Alert type="error" title={<span className="wrap">{save.error.message}</span>} />}
        {overtaken && (
          <Alert
            type="warning"
            title={<span className="wrap">{save.error?.message}</span>}
            description={
              newer.data && (
                <>
                  <pre className="mono wrap">{newer.data.source}</pre>
                  <Button
                    onClick={() => {
                      setOn(newer.data.revision)
                      keep({ text, basis: newer.data.revision })
                      save.reset()
                    }}
                  >
                    I took over what I want of revision {newer.data.revision}
                  </Button>
                </>
              )
            }
          />
        )}
        <div className="buttons">
          <Button type="primary" disabled={problems.length > 0 || (change > 0 && text === source)} loading={save.isPending} onClick={() => save.mutate()}>
            {change ? `Save as revision ${on + 1}` : 'Draft it'}
          </Button>
          {change > 0 && <Link to={`/changes/${change}`}>Back to change {change}</Link>}
        </div>
      </div>
      <aside>
        <Checked of={check.data} error={check.error} />
      </aside>
    </div>
  )
}

function Checked({ of: c, error }: { of?: DraftChecked; error: unknown }) {
  return (
    <section aria-live="polite" aria-label="What it says">
      <h2>What it says</h2>
      {error ? <Problem error={error} /> : null}
      {c && c.problems.length === 0 && <p>Nothing is wrong with the text. What hosts say to it, the rehearsal tells.</p>}
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
        </p>
      )}
    </section>
  )
}

// Editor is a text with line numbers; lines with something wrong are marked.
function Editor({ text, onText, problems }: { text: string; onText: (text: string) => void; problems: DraftChecked['problems'] }) {
  const lines = text.split('\n').length
  const wrong = new Set(problems.map((p) => p.line))
  return (
    <div className="editor">
      <div className="numbers" aria-hidden="true">
        {Array.from({ length: lines }, (_, i) => (
          <div key={i} className={wrong.has(i + 1) ? 'wrong' : undefined}>
            {wrong.has(i + 1) ? '▸' : ''}
            {i + 1}
          </div>
        ))}
      </div>
      <textarea aria-label="The change, as YAML" className="mono" spellCheck={false} wrap="off" rows={Math.max(18, lines + 1)} value={text} onChange={(e) => onText(e.target.value)} />
    </div>
  )
}
