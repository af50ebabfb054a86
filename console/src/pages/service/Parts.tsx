import { useState } from 'react'
import type { ServiceParts } from '../../api/client'
import { counted } from '../../ui/Ago'

// Parts is a definition as people read it: where, files, checker, acts, probes, rules, settings.
export function Parts({ of: p }: { of: ServiceParts }) {
  const [text, setText] = useState('')
  const has = (s: ServiceParts['settings'][number]) => [s.address, s.explanation, s.type, s.measure].some((t) => t?.toLowerCase().includes(text.toLowerCase()))
  const shown = p.settings.filter(has)
  return (
    <>
      <dl className="facts">
        <dt>Carried by</dt>
        <dd>
          hosts for which <code>{p.where}</code>
        </dd>
        <dt>Unit</dt>
        <dd className="mono">{p.unit}</dd>
        {p.files.map((f) => (
          <div key={f.key} style={{ display: 'contents' }}>
            <dt>File {f.key}</dt>
            <dd>
              <span className="mono wrap">{Object.entries(f.paths).map(([family, path]) => (family === 'any' ? path : `${family}: ${path}`)).join(', ')}</span> <span className="second">{f.format}</span>
            </dd>
          </div>
        ))}
        <dt>Checker</dt>
        <dd className="mono wrap">{p.trial.length > 0 ? p.trial.join(' ') : 'none'}</dd>
        {p.acts.map((a) => (
          <div key={a.name} style={{ display: 'contents' }}>
            <dt>Act {a.name}</dt>
            <dd className="wrap">
              <span className="mono">{a.reboots ? 'a boot of the host' : a.commands.map((c) => c.join(' ')).join('; ') || 'nothing: it is read anew at each use'}</span>
              {a.serves && <span className="second">, serving meanwhile</span>}
            </dd>
          </div>
        ))}
        <dt>Settles in</dt>
        <dd>{p.settle === '0s' ? '15s' : p.settle}</dd>
        {(p.pool || p.keep) && (
          <>
            <dt>Pools</dt>
            <dd>
              {p.pool ? <>by <code>{p.pool}</code></> : 'all hosts are one'}
              {p.keep ? `; more than ${p.keep} of each stay well` : ''}
            </dd>
          </>
        )}
      </dl>
      <Probes title="Probes" of={p.probes} />
      <Probes title="In force" of={p.in_force} />
      {p.rules.length > 0 && (
        <section aria-label="Rules">
          <h2>{counted(p.rules.length, 'rule')}</h2>
          <ul className="sentences">
            {p.rules.map((r) => (
              <li key={r.holds} className="wrap">
                <code>{r.holds}</code>: else {r.weight || 'veto'}, “{r.say}”
              </li>
            ))}
          </ul>
        </section>
      )}
      <section aria-label="Settings">
        <h2>{counted(p.settings.length, 'setting')}</h2>
        {p.settings.length > 8 && <input className="go-field" aria-label="Find a setting" placeholder="Find a setting by name, explanation or type" value={text} onChange={(e) => setText(e.target.value)} />}
        {shown.length === 0 && <p className="second">{p.settings.length === 0 ? 'The definition explains none; each address of its files may be edited.' : 'None has that in it.'}</p>}
        <dl className="settings">
          {shown.map((s) => (
            <div key={`${s.file} ${s.address}`}>
              <dt className="mono wrap">{s.address}</dt>
              <dd className="wrap">
                {s.explanation && `${s.explanation} `}
                <span className="second">
                  {s.type}
                  {s.range && ` ${s.range}`}
                  {s.measure && ` ${s.measure}`}
                  {s.choices && s.choices.length > 0 && `: ${s.choices.join(', ')}`}
                  {s.default && `; ${s.default} where it is not set`}
                  {s.secret && '; a secret'}
                  {s.act && `; wants ${s.act}`}
                  {s.since && `; since version ${s.since}`}
                  {s.until && `; until version ${s.until}`}
                </span>
              </dd>
            </div>
          ))}
        </dl>
      </section>
    </>
  )
}

function Probes({ title, of }: { title: string; of: ServiceParts['probes'] }) {
  if (of.length === 0) return null
  return (
    <section aria-label={title}>
      <h2>{title}</h2>
      <div className="scrolls">
        <table className="probes">
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Asks</th>
              <th scope="col">Expects</th>
            </tr>
          </thead>
          <tbody>
            {of.map((p, i) => (
              <tr key={i}>
                <td>{p.name}</td>
                <td className="mono wrap">{p.ask}</td>
                <td className="mono wrap">{p.expect || [p.before && `before: ${p.before}`, p.after && `after: ${p.after}`].filter(Boolean).join('; ')}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  )
}
