import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { hosts, preview, previewed } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { Diff } from '../../ui/Diff'
import { Findings } from '../../ui/Findings'
import { Problem, Waiting } from '../../ui/States'
import { said } from './document'
import type { Draft } from './useDraft'

// oddOnes are hosts that get other values than most: they are offered first.
function oddOnes(draft: Draft): string[] {
  const all = (draft.check.data?.edits ?? []).flatMap((e) => e.values.slice(1).reverse().map((v) => v.first[0] ?? ''))
  return [...new Set([...all, ...(draft.check.data?.first ?? [])])].filter(Boolean).slice(0, 12)
}

// OnHost shows what the change comes to on one host as one types: by the copy of its files that the
// server read last.
export function OnHost({ draft }: { draft: Draft }) {
  const [host, setHost] = useState('')
  const cache = useQueryClient()
  const where = said(draft.of, 'where')
  const some = useQuery({ ...hosts({ where: where || undefined, limit: 200 }), enabled: draft.problems.every((p) => !p.text.startsWith('where:')), refetchInterval: false })
  const right = draft.check.data !== undefined && draft.problems.length === 0
  const seen = useQuery({ ...previewed(draft.asked, host), enabled: host !== '' && right })
  const anew = useMutation({
    mutationFn: () => preview(draft.asked, host, true),
    onSuccess: (found) => {
      cache.removeQueries({ queryKey: ['previewed', host] }) // what rests on the copy before
      cache.setQueryData(previewed(draft.asked, host).queryKey, found)
    },
  })
  const offered = oddOnes(draft)
  return (
    <section aria-label="On this host">
      <h2>On this host</h2>
      <select className="go-field" aria-label="Host to see the change on" value={host} onChange={(e) => setHost(e.target.value)}>
        <option value="">choose a host; its files are read once</option>
        {offered.map((name) => (
          <option key={name}>{name}</option>
        ))}
        {(some.data ?? [])
          .filter((h) => !offered.includes(h.name))
          .map((h) => (
            <option key={h.id}>{h.name}</option>
          ))}
      </select>
      {host && !right && <p className="second">{seen.data ? 'This is from before your last edit: something is wrong with the text now.' : 'Shown once nothing is wrong with the text.'}</p>}
      {[seen.error, anew.error].map((error, i) => error && <Problem key={i} error={error} />)}
      {seen.isFetching && !seen.data && <Waiting what={`files of ${host}`} />}
      {seen.data?.host === host && (
        <>
          <p className="second">
            By the copy read <Ago at={seen.data.read_at} />.{' '}
            <button type="button" className="plain-button" disabled={anew.isPending || !right} onClick={() => anew.mutate()}>
              Read again
            </button>
          </p>
          {seen.data.diff ? <Diff text={seen.data.diff} /> : !seen.data.findings.some((f) => f.level === 'veto') && <p>It changes nothing there.</p>}
          {seen.data.act && seen.data.diff && <p>Then {seen.data.act}.</p>}
          <Findings findings={seen.data.findings} />
          {seen.data.checkers.length > 0 && (
            <p className="second wrap">
              The rehearsal asks <span className="mono">{seen.data.checkers.join(', ')}</span> about it, and the probes.
            </p>
          )}
        </>
      )}
    </section>
  )
}
