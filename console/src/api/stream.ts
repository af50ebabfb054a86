import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import type { ChangeDetail, HostRun } from './client'
import { change } from './queries'

type Step = Pick<HostRun, 'host' | 'state' | 'step'>

// stepped is the one reducer of live events: it moves a host's run.
export function stepped(d: ChangeDetail | undefined, s: Step): ChangeDetail | undefined {
  if (!d?.climb) return d
  const runs = d.climb.runs.map((r) => (r.host === s.host ? { ...r, state: s.state, step: s.step } : r))
  return { ...d, climb: { ...d.climb, runs } }
}

// useStream keeps a change in the cache as it is on the server. It gives
// whether the stream is up.
export function useStream(id: number): boolean {
  const cache = useQueryClient()
  const [up, setUp] = useState(true)
  useEffect(() => {
    const key = change(id).queryKey
    let pending: ReturnType<typeof setTimeout> | undefined
    const soon = () => {
      pending ??= setTimeout(() => {
        pending = undefined
        void cache.invalidateQueries({ queryKey: key })
      }, 120)
    }
    const source = new EventSource(`/api/v1/changes/${id}/events`)
    source.onopen = () => {
      setUp(true)
      soon()
    }
    source.onerror = () => setUp(false)
    source.addEventListener('record', soon)
    source.addEventListener('rehearsal', soon)
    source.addEventListener('step', (e) => cache.setQueryData(key, (d) => stepped(d, JSON.parse(e.data) as Step)))
    return () => {
      clearTimeout(pending)
      source.close()
    }
  }, [id, cache])
  return up
}
