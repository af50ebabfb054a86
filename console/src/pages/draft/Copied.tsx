import { useMutation } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import { parse } from 'yaml'
import { derived } from '../../api/queries'
import { Problem } from '../../ui/States'
import type { Known } from './completion'
import { add, said } from './document'
import { Line, Pick } from './Field'
import type { Draft } from './useDraft'

// Copied takes a copy of a file that somebody edited by hand, and has the server say by which edits
// the file becomes it.
export function Copied({ draft, known }: { draft: Draft; known: Known }) {
  const service = said(draft.of, 'service')
  const [host, setHost] = useState('')
  const [file, setFile] = useState('')
  const [text, setText] = useState('')
  const name = host || (draft.check.data?.first[0] ?? '')
  const key = file || (known.parts?.files[0]?.key ?? '')
  const go = useMutation({ mutationFn: () => derived(name, { service, file: key, text }) })
  const edits = go.data?.edits ?? ''
  const take = () => {
    const list: unknown = parse(edits, { schema: 'failsafe' })
    draft.type((Array.isArray(list) ? list : []).reduce((before: string, edit) => add(before, ['edits'], edit), draft.text))
    setText('')
    go.reset()
  }
  if (!known.parts) return null
  return (
    <details className="part">
      <summary>From a copy that was edited by hand</summary>
      <p className="second">The file is read on the host as it is now, and compared with the copy.</p>
      <div className="row">
        <Line label="Host of which it is a copy" value={host} hint={name} size={28} mono onValue={(v) => setHost(v.trim())} />
        <Pick label="File" value={key} of={known.parts.files.map((f): [string, string] => [f.key, f.key])} onValue={setFile} />
        <label className="labelled">
          <span>Take it from a file of yours</span>
          <input type="file" onChange={(e) => void e.target.files?.[0]?.text().then(setText)} />
        </label>
      </div>
      <Line label="Or paste it here" value={text} lines mono wide onValue={setText} />
      <Button size="small" disabled={!text || !name} loading={go.isPending} onClick={() => go.mutate()}>
        Which edits make it so?
      </Button>
      {go.error && <Problem error={go.error} />}
      {edits && (
        <>
          <pre className="mono wrap">{edits}</pre>
          <Button size="small" type="primary" onClick={take}>
            Take these edits over
          </Button>
        </>
      )}
    </details>
  )
}
