import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import type { HostRun } from './client'
import { change, type Known } from './queries'

type Step = Pick<HostRun, 'host' | 'state' | 'step'>

// stepped is the one reducer of live events: it moves a host's run.
export function stepped(known: Known | undefined, s: Step): Known | undefined {
  if (!known?.runs.some((r) => r.host === s.host)) return known
  return { ...known, runs: known.runs.map((r) => (r.host === s.host ? { ...r, state: s.state, step: s.step } : r)) }
}

// useStream keeps a change in the cache as it is on the server. It gives
// whether the stream is up.
export function useStream(id: number): boolean {
  const cache = useQueryClient()
  const [up, setUp] = useState(true)
  useEffect(() => {
    let pending: ReturnType<typeof setTimeout> | undefined
    const soon = () => {
      pending ??= setTimeout(() => {
        pending = undefined
        void cache.invalidateQueries({ queryKey: change(id).queryKey })
        void cache.invalidateQueries({ queryKey: ['record'] })
        for (const what of ['runs', 'first']) void cache.invalidateQueries({ queryKey: [what, id] })
      }, 250)
    }
    const source = new EventSource(`/api/v1/changes/${id}/events`)
    source.onopen = () => {
      setUp(true)
      soon()
    }
    source.onerror = () => setUp(false)
    source.addEventListener('record', soon)
    source.addEventListener('rehearsal', soon)
    source.addEventListener('step', (e) => cache.setQueriesData<Known>({ queryKey: ['runs', id] }, (known) => stepped(known, JSON.parse(e.data) as Step)))
    return () => {
      clearTimeout(pending)
      source.close()
    }
  }, [id, cache])
  return up
}
