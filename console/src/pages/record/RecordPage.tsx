import { useQuery } from '@tanstack/react-query'
import { Button } from 'antd'
import { recordPage, people, told, verification } from '../../api/queries'
import { counted } from '../../ui/Ago'
import { Page } from '../../ui/Page'
import { Pages } from '../../ui/Pages'
import { Choice, Text, useFilters } from '../../ui/Sentence'
import { Nothing, Problem, Waiting } from '../../ui/States'
import { Told } from '../../ui/Told'

// startOf is the beginning of a day in the reader's zone.
function startOf(day: string, after = 0): string | undefined {
  const at = new Date(`${day}T00:00:00`)
  if (!/^\d{4}-\d\d-\d\d$/.test(day) || Number.isNaN(at.getTime())) return undefined
  at.setDate(at.getDate() + after)
  return at.toISOString()
}

export function RecordPage() {
  const [get, set] = useFilters()
  const list = useQuery(
    told({
      by: get('by') || undefined,
      host: get('host') || undefined,
      change: Number(get('change')) || undefined,
      since: startOf(get('since')),
      until: startOf(get('until'), 1),
      before: Number(get('before')) || undefined,
      limit: recordPage,
    }),
  )
  const who = useQuery(people())
  const last = list.data?.at(-1)
  const day = (name: 'since' | 'until', label: string) => <input type="date" className={get(name) ? 'word chosen' : 'word'} aria-label={label} value={get(name)} onChange={(e) => set(name, e.target.value)} />
  return (
    <Page title="Record" help="console#record">
      <div className="work">
        <div>
          <p className="filter">
            What <Choice label="Who" value={get('by')} any="anyone" of={[...(who.data ?? []).map((p): [string, string] => [p.name, p.display]), ['wladderd', 'the server']]} onChange={(v) => set('by', v)} /> did, to{' '}
            <Text label="Host" value={get('host')} any="any host" onChange={(v) => set('host', v)} />, in change <Text label="Change" value={get('change')} any="any" size={5} onChange={(v) => set('change', v)} />, from {day('since', 'The first day')} to {day('until', 'The last day')}
          </p>
          {list.error && <Problem error={list.error} again={() => void list.refetch()} />}
          {list.isPending && <Waiting what="the record" />}
          {list.data?.length === 0 && <Nothing>No entry fits. Open a word of the sentence to look wider.</Nothing>}
          {list.data && <Told entries={list.data} data />}
          {last && (
            <Pages first={get('before') !== '' && { words: 'The newest', go: () => set('before', '') }} next={list.data?.length === recordPage && { words: 'Earlier ones', go: () => set('before', String(last.seq)) }} />
          )}
        </div>
        <aside>
          <Chain />
        </aside>
      </div>
    </Page>
  )
}

function Chain() {
  const query = useQuery({ ...verification(), enabled: false })
  const v = query.data
  return (
    <section aria-label="Whether the record holds">
      <h2>Does it hold?</h2>
      <p>Each entry holds the hash of the one before, so that none can be altered, left out or cut off unseen.</p>
      <Button loading={query.isFetching} onClick={() => void query.refetch()}>
        Check all of it now
      </Button>
      {query.error && <Problem error={query.error} />}
      {v && (
        <p role="status" className="wrap">
          {v.holds ? (
            <>
              <b>It holds:</b> {counted(v.entries, 'entry').replace('entrys', 'entries')}, the last with the hash <span className="mono">{v.hash.slice(0, 16)}</span>.
            </>
          ) : (
            <>
              <b>It does not hold:</b> {v.broken}
            </>
          )}
          {v.seams && v.seams.length > 0 && ` At ${v.seams.map((n) => `entry ${n}`).join(', ')} it went on from an older copy of the database.`}
        </p>
      )}
      <h3>Outside this server</h3>
      <p>
        <a href="/api/v1/record/export" download>
          Export all of it
        </a>
        , with a signed end. <code>wladder record -check FILE -key KEY</code> checks that with no server.
      </p>
    </section>
  )
}
