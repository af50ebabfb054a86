import { Button } from 'antd'
import { Fragment } from 'react'
import type { Schemas } from '../../api/client'
import { counted } from '../../ui/Ago'
import { Typed } from './Typed'
import type { Known } from './completion'
import { has, put, said, type Key } from './document'
import { Expression } from './Expression'
import { Line, Pick } from './Field'
import type { Draft } from './useDraft'
import { verbOf, verbs } from './verbs'

interface Props {
  at: number
  edit: unknown
  draft: Draft
  known: Known
  comes?: Schemas['DraftEdit']
}

type Way = 'to' | 'compute' | 'table' | 'secret' | 'secrets'

const ways: [Way, string][] = [
  ['to', 'one value'],
  ['compute', 'by an expression'],
  ['table', 'by a table'],
  ['secret', 'a kept secret'],
]

// EditLine is one edit: what, to which value, on which of the hosts, and what that comes to.
export function EditLine({ at, edit, draft, known, comes }: Props) {
  const verb = verbOf(edit)
  const set = (path: Key[], value: unknown) => draft.type(put(draft.text, ['edits', at, ...path], value))
  const change = (next: { [key: string]: unknown }) => draft.type(put(draft.text, ['edits', at], next))
  const files = known.parts?.files ?? []
  const plain = edit && typeof edit === 'object' ? (edit as { [key: string]: unknown }) : {}
  return (
    <fieldset className="edit">
      <legend className="second">
        Edit {at + 1}: {verb === 'set' ? 'set a value' : (verbs[verb]?.words ?? 'as YAML says')}
      </legend>
      <div className="row">
        {(files.length > 1 || has(edit, 'file')) && verb !== 'put' && verb !== 'delete' && <Pick label="File" value={said(edit, 'file')} of={[...(has(edit, 'file') ? [] : [['', 'the only one'] as [string, string]]), ...files.map((f): [string, string] => [f.key, f.key])]} onValue={(v) => set(['file'], v || undefined)} />}
        {verb === 'set' && <SetTo edit={edit} set={set} change={change} plain={plain} known={known} />}
        {verbs[verb]?.fields
          .filter((f) => f.key !== 'file')
          .map((f) => <Line key={f.key} label={f.words} value={said(edit, f.key)} lines={f.lines} mono size={28} wide={f.lines} onValue={(v) => set([f.key], v || f.needed ? v : undefined)} />)}
        {verb === '' && <p className="second">This edit is shown under “As YAML”.</p>}
      </div>
      {has(edit, 'where') && <Expression label="Only on hosts for which this holds" value={said(edit, 'where')} onValue={(v) => set(['where'], v)} known={known} edits />}
      {comes && <Comes of={comes} />}
      <div className="deeds">
        {!has(edit, 'where') ? (
          <Button size="small" onClick={() => set(['where'], 'labels.site == ""')}>
            Only on some of the hosts…
          </Button>
        ) : (
          <Button size="small" onClick={() => set(['where'], undefined)}>
            On all hosts
          </Button>
        )}
        <Button size="small" onClick={() => draft.type(put(draft.text, ['edits', at], undefined))}>
          Remove this edit
        </Button>
      </div>
    </fieldset>
  )
}

interface SetProps {
  edit: unknown
  plain: { [key: string]: unknown }
  known: Known
  set: (path: Key[], value: unknown) => void
  change: (next: { [key: string]: unknown }) => void
}

function SetTo({ edit, plain, known, set, change }: SetProps) {
  const address = said(edit, 'set')
  const file = said(edit, 'file')
  const setting = known.parts?.settings.find((s) => s.address === address && (!s.file || !file || s.file === file))
  const way = (['secrets', 'secret', 'table', 'compute'] as const).find((w) => w in plain) ?? 'to'
  const become = (next: string) => {
    const rest = Object.fromEntries(Object.entries(plain).filter(([k]) => !['to', 'compute', 'table', 'by', 'otherwise', 'secret', 'secrets'].includes(k)))
    const value: { [way: string]: object } = { to: { to: '' }, compute: { compute: 'string(cores)' }, table: { by: 'labels.site', table: { '': '' } }, secret: { secret: known.secrets[0] ?? '' } }
    change({ ...rest, ...value[next] })
  }
  const list = plain['to'] !== undefined && typeof plain['to'] !== 'string'
  return (
    <>
      <Line label="Setting" value={address} mono size={30} list="draft-settings" onValue={(v) => set(['set'], v)} />
      <datalist id="draft-settings">
        {known.parts?.settings.map((s) => (
          <option key={`${s.file} ${s.address}`} value={s.address} />
        ))}
      </datalist>
      <Pick label="Value" value={way} of={way === 'secrets' ? [['secrets', 'a secret by a table']] : ways} onValue={become} />
      {way === 'to' && (list ? <p className="second mono">{JSON.stringify(plain['to'])}</p> : <Typed of={setting} value={said(edit, 'to')} onValue={(v) => set(['to'], v)} />)}
      {way === 'compute' && <Expression label="The value is what this comes to" value={said(edit, 'compute')} onValue={(v) => set(['compute'], v)} known={known} edits hint="min(cores * 1024, 4096)" />}
      {way === 'secret' && <Pick label="Secret" value={said(edit, 'secret')} of={known.secrets.map((n): [string, string] => [n, n])} onValue={(v) => set(['secret'], v)} />}
      {way === 'secrets' && <p className="second">The table of secrets is changed under “As YAML”.</p>}
      {way === 'table' && <ByTable plain={plain} known={known} set={set} />}
      {setting?.explanation && <p className="second wrap wide">{setting.explanation}</p>}
    </>
  )
}

function ByTable({ plain, known, set }: Pick<SetProps, 'plain' | 'known' | 'set'>) {
  const table = plain['table'] && typeof plain['table'] === 'object' ? (plain['table'] as { [key: string]: unknown }) : {}
  const by = said(plain, 'by')
  const label = /^labels\.([\w-]+)$/.exec(by)?.[1]
  const missing = (known.labels.find((l) => l.name === label)?.values ?? []).filter((v) => !(v.value in table))
  const rows = Object.entries(table)
  const rename = (from: string, to: string) => set(['table'], Object.fromEntries(rows.map(([k, v]) => [k === from ? to : k, v])))
  return (
    <div className="wide">
      <Expression label="By what this comes to on a host" value={by} onValue={(v) => set(['by'], v)} known={known} edits />
      <table className="table">
        <thead>
          <tr>
            <th>where it is</th>
            <th>the value</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {rows.map(([key, value], i) => (
            <tr key={i}>
              <td>
                <input
                  key={key}
                  className="go-field mono"
                  aria-label={`Row ${i + 1}: where it is`}
                  defaultValue={key}
                  onBlur={(e) => {
                    if (e.target.value === key) return
                    if (e.target.value in table) e.target.value = key // another row has it: none is lost
                    else rename(key, e.target.value)
                  }}
                />
              </td>
              <td>
                <input className="go-field mono" aria-label={`Row ${i + 1}: the value`} value={typeof value === 'string' ? value : ''} onChange={(e) => set(['table', key], e.target.value)} />
              </td>
              <td>
                <Button size="small" aria-label={`Remove row ${i + 1}`} onClick={() => set(['table'], Object.fromEntries(rows.filter(([k]) => k !== key)))}>
                  Remove
                </Button>
              </td>
            </tr>
          ))}
          <tr>
            <td className="second">all others</td>
            <td>
              <input className="go-field mono" aria-label="All others: the value" placeholder="none: a veto there" value={said(plain, 'otherwise')} onChange={(e) => set(['otherwise'], e.target.value || undefined)} />
            </td>
            <td />
          </tr>
        </tbody>
      </table>
      <div className="deeds">
        <Button size="small" disabled={'' in table} onClick={() => set(['table'], { ...table, '': '' })}>
          Another row
        </Button>
        {missing.length > 0 && (
          <Button size="small" onClick={() => set(['table'], { ...Object.fromEntries(rows.filter(([k]) => k !== '')), ...Object.fromEntries(missing.map((v) => [v.value, ''])) })}>
            A row for each {label}
          </Button>
        )}
      </div>
    </div>
  )
}

// Comes says what an edit comes to over the hosts.
function Comes({ of: c }: { of: Schemas['DraftEdit'] }) {
  return (
    <p className="wrap comes" aria-live="polite">
      {!c.why && c.values.length === 0 && `On ${counted(c.hosts, 'host')}.`}
      {c.values.slice(0, 6).map((v, i) => (
        <Fragment key={v.value}>
          {i > 0 && '; '}
          <span className="mono">{v.value}</span> on {v.hosts} <span className="second">({v.first.slice(0, 4).join(', ')}{v.hosts > 4 && ', …'})</span>
        </Fragment>
      ))}
      {c.values.length > 6 && `; and ${c.values.length - 6} more values`}
      {c.why && <span className="second"> Not known yet: {c.why}.</span>}
    </p>
  )
}
