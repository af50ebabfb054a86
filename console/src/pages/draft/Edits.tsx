import { useMutation } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { compared } from '../../api/queries'
import { counted } from '../../ui/Ago'
import { Problem } from '../../ui/States'
import { Strip } from '../../ui/Strip'
import type { Known } from './completion'
import { add, listed, said } from './document'
import { EditLine } from './EditLine'
import { Part } from './Field'
import { problemsOf } from './problems'
import type { Draft } from './useDraft'
import { verbs } from './verbs'

type Setting = Schemas['ServiceSetting']

// Edits is what is set: a search over the settings that the definition explains, and a line for
// each edit.
export function Edits({ draft, known }: { draft: Draft; known: Known }) {
  const edits = listed(draft.of, 'edits')
  const several = (known.parts?.files.length ?? 0) > 1
  const put = (edit: object) => draft.type(add(draft.text, ['edits'], edit))
  return (
    <Part id="edits" title="What to set" problems={problemsOf(draft, 'edits', 'values')}>
      {known.parts && <Search parts={known.parts} where={said(draft.of, 'where')} onSet={(s) => put({ ...(several && s.file ? { file: s.file } : {}), set: s.address, to: '' })} />}
      {!known.parts && <p className="second">Choose a service: its settings are found here.</p>}
      {edits.map((e, i) => (
        <EditLine key={i} at={i} edit={e} draft={draft} known={known} comes={draft.check.data?.edits[i]} />
      ))}
      <p className="filter">
        Another edit:{' '}
        <select
          className="word"
          aria-label="Another edit"
          value=""
          onChange={(e) => {
            const verb = e.target.value
            if (verb) put(verb === 'set' ? { set: '', to: '' } : verb === 'mode' ? { file: '', mode: '' } : Object.fromEntries((verbs[verb]?.fields ?? []).filter((f) => f.needed).map((f) => [f.key, ''])))
          }}
        >
          <option value="">choose what it does</option>
          <option value="set">set a value by its address</option>
          {Object.entries(verbs).map(([verb, v]) => (
            <option key={verb} value={verb}>
              {v.words}
            </option>
          ))}
        </select>
      </p>
    </Part>
  )
}

const most = 8

function Search({ parts, where, onSet }: { parts: NonNullable<Known['parts']>; where: string; onSet: (s: Setting) => void }) {
  const [text, setText] = useState('')
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  const found = words.length === 0 ? [] : parts.settings.filter((s) => words.every((w) => `${s.address} ${s.explanation ?? ''}`.toLowerCase().includes(w)))
  return (
    <>
      <label className="labelled wide">
        <span>Find a setting of {parts.service.name} by its name, or by what it does</span>
        <input className="go-field" type="search" value={text} placeholder={`${counted(parts.settings.length, 'setting')} explained`} onChange={(e) => setText(e.target.value)} />
      </label>
      {words.length > 0 && found.length === 0 && (
        <p>
          The definition explains none like that. “Another edit” sets any address of its files.
        </p>
      )}
      {found.slice(0, most).map((s) => (
        <Found key={`${s.file} ${s.address}`} of={s} service={parts.service.name} file={s.file || (parts.files[0]?.key ?? '')} where={where} onSet={() => {
          onSet(s)
          setText('')
        }} />
      ))}
      {found.length > most && <p className="second">and {found.length - most} more: say more of its name</p>}
    </>
  )
}

// Found is a setting with its explanation; its values over the chosen hosts are asked for.
function Found({ of: s, service, file, where, onSet }: { of: Setting; service: string; file: string; where: string; onSet: () => void }) {
  const now = useMutation({ mutationFn: () => compared({ service, file, address: s.address, where }) })
  return (
    <div className="found">
      <div className="deeds">
        <b className="mono wrap">{s.address}</b>
        <span className="second">
          {[s.type, s.range?.replace('..', ' to '), s.choices?.join(', '), s.measure, s.default && `${s.default} by default`, s.act && `takes a ${s.act}`].filter(Boolean).join('; ')}
        </span>
      </div>
      {s.explanation && <p className="wrap">{s.explanation}</p>}
      <div className="deeds">
        <Button size="small" type="primary" onClick={onSet}>
          Set it
        </Button>
        <Button size="small" loading={now.isPending} onClick={() => now.mutate()}>
          Ask hosts for its values now
        </Button>
      </div>
      {now.error && <Problem error={now.error} />}
      {now.data && <Strip of={now.data.values ?? []} />}
    </div>
  )
}
