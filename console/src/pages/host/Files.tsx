import { useQuery } from '@tanstack/react-query'
import { Button } from 'antd'
import { useState } from 'react'
import type { HostFile, Setting } from '../../api/client'
import { hostFiles } from '../../api/queries'
import { Ago, counted } from '../../ui/Ago'
import { Fate, fateOf } from '../../ui/Fate'
import { Problem } from '../../ui/States'

// Chosen is a value that somebody looks at.
export interface Chosen {
  service: string
  file: HostFile
  setting: Setting
}

// Files reads the files of a service on a host when asked to: that takes a connection.
export function Files({ host, service, chosen, onChoose }: { host: string; service: string; chosen?: Chosen; onChoose: (c: Chosen) => void }) {
  const [asked, setAsked] = useState(false)
  const query = useQuery(hostFiles(host, service, asked))
  return (
    <div className="whole">
      <div className="deeds">
        <Button size="small" loading={query.isFetching} onClick={() => (asked ? void query.refetch() : setAsked(true))}>
          {query.data ? 'Read again' : 'Read its files now'}
        </Button>
        {query.data && (
          <span className="second">
            read <Ago at={query.data.read_at} />
          </span>
        )}
      </div>
      {query.error && <Problem error={query.error} again={() => void query.refetch()} />}
      {query.data?.files.map((f) => (
        <File key={`${f.instance} ${f.path}`} of={f} service={service} chosen={chosen} onChoose={onChoose} />
      ))}
    </div>
  )
}

function File({ of: f, service, chosen, onChoose }: { of: HostFile; service: string; chosen?: Chosen; onChoose: (c: Chosen) => void }) {
  const lines = (f.text ?? '').replace(/\n$/, '').split('\n')
  const at = new Map<number, Setting[]>()
  for (const s of f.settings ?? []) at.set(s.line, [...(at.get(s.line) ?? []), s])
  const lost = (f.settings ?? []).filter((s) => fateOf(s) === 'lost').length
  return (
    <section aria-label={f.path} data-file={f.path}>
      <h3 className="mono wrap">
        {f.path}
        {f.instance && ` (${f.instance})`}
      </h3>
      <p className="second">
        {f.owner}:{f.group}, mode {f.mode}, {counted(lines.length, 'line')}
        {lost > 0 && `; ${counted(lost, 'value')} lost to another line`}
      </p>
      {f.problem && <p className="wrap">{f.problem}</p>}
      {f.text !== undefined && (
        <pre className="file" tabIndex={0} aria-label={`The file ${f.path}`}>
          {lines.map((text, i) => {
            const here = at.get(i + 1) ?? []
            const one = here[0]
            return (
              <div key={i} id={`${f.key}-${i + 1}`} className={chosen && chosen.file.path === f.path && chosen.setting.line === i + 1 ? 'at' : undefined}>
                <span className="number">{i + 1}</span>
                {one ? (
                  <button type="button" className="fate" title={fateOf(one)} aria-label={`${one.address}, ${fateOf(one)}: look at it`} onClick={() => onChoose({ service, file: f, setting: one })}>
                    <Fate of={fateOf(one)} />
                  </button>
                ) : (
                  <span className="fate" />
                )}
                <span>{text}</span>
              </div>
            )
          })}
        </pre>
      )}
    </section>
  )
}
