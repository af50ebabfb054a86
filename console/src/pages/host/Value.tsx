import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { serviceParts, settingHistory } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { Fate, fateOf } from '../../ui/Fate'
import type { Chosen } from './Files'

// Value is one value of a file, looked at: what becomes of it, what it is, and what became of it
// on this host.
export function Value({ host, of: { service, file, setting } }: { host: string; of: Chosen }) {
  const parts = useQuery(serviceParts(service, 0))
  const history = useQuery(settingHistory(host, service, file.key, setting.address))
  const last = (address: string) => address.split('/').at(-1)
  const known = parts.data?.settings.find((s) => s.address === setting.address) ?? parts.data?.settings.find((s) => last(s.address) === last(setting.address))
  const fate = fateOf(setting)
  return (
    <section aria-live="polite" aria-label="The value">
      <h2 className="wrap mono">{setting.address}</h2>
      <p className="wrap">
        <Fate of={fate} /> <span className="mono">{setting.value || '–'}</span>, {fate}
        {setting.why && `: ${setting.why}`}
        <br />
        <span className="second">
          {file.path}:{setting.line}
        </span>
      </p>
      {known?.explanation && <p className="wrap">{known.explanation}</p>}
      {known && (
        <p className="second wrap">
          {known.type}
          {known.range && ` ${known.range}`}
          {known.measure && ` ${known.measure}`}
          {known.choices && `: ${known.choices.join(', ')}`}
          {known.default && `; ${known.default} where it is not set`}
        </p>
      )}
      <p>
        <Link to={`/services/${encodeURIComponent(service)}?setting=${encodeURIComponent(setting.address)}&file=${encodeURIComponent(file.key)}#fleet`}>Its values over the fleet</Link>
      </p>
      <h3>What became of it here</h3>
      {history.error && <p className="second">{history.error.message}</p>}
      {history.data?.length === 0 && <p className="second">No change of ours has set it.</p>}
      <ul className="sentences">
        {history.data?.map((t, i) => (
          <li key={i} className="wrap">
            <Ago at={t.at} />: {t.what || `${t.from || '–'} → ${t.to || '–'}`}
            {t.change ? (
              <>
                , <Link to={`/changes/${t.change}`}>change {t.change}</Link> by {t.by}
              </>
            ) : (
              ', by somebody past this server'
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}
