import { useState } from 'react'

const prefix = 'wladder.read.'
const kept = 40

function stored(of: string): string[] {
  try {
    const all: unknown = JSON.parse(localStorage.getItem(prefix + of) ?? '[]')
    return Array.isArray(all) ? all.filter((k) => typeof k === 'string') : []
  } catch {
    return []
  }
}

// useRead keeps which diff groups of a plan this person has read, in this browser: another plan is
// read anew. Of plans seen long ago nothing is kept.
export function useRead(of: string): [ReadonlySet<string>, (key: string, read: boolean) => void] {
  const [all, setAll] = useState({ of, keys: stored(of) })
  const now = all.of === of ? all : { of, keys: stored(of) }
  return [
    new Set(now.keys),
    (key, read) => {
      const keys = now.keys.filter((k) => k !== key)
      if (read) keys.push(key)
      const plans = Object.keys(localStorage).filter((name) => name.startsWith(prefix) && name !== prefix + of)
      for (const name of plans.slice(0, Math.max(0, plans.length - kept))) localStorage.removeItem(name)
      localStorage.setItem(prefix + of, JSON.stringify(keys))
      setAll({ of, keys })
    },
  ]
}
