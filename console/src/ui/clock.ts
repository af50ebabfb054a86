import { useSyncExternalStore } from 'react'

let now = Date.now()

function subscribe(changed: () => void): () => void {
  const timer = setInterval(() => {
    now = Date.now()
    changed()
  }, 15_000)
  return () => clearInterval(timer)
}

// useNow gives the time in milliseconds, to a quarter of a minute, and renders
// again as it goes on.
export function useNow(): number {
  return useSyncExternalStore(subscribe, () => now)
}
