import { useState } from 'react'

interface Kept {
  text: string
  basis: number // the revision on which it rests
}

function stored(name: string): Kept | undefined {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(name) ?? 'null')
    if (kept && typeof kept === 'object' && 'text' in kept && 'basis' in kept && typeof kept.text === 'string' && typeof kept.basis === 'number') return { text: kept.text, basis: kept.basis }
  } catch {
    // what cannot be read was not written here
  }
  return undefined
}

// useKept keeps unsaved work in this browser, for a person and a change.
export function useKept(of: string): [Kept | undefined, (kept: Kept | undefined) => void] {
  const name = `wladder.unsaved.${of}`
  const [kept, setKept] = useState(() => stored(name))
  return [
    kept,
    (next) => {
      if (next) localStorage.setItem(name, JSON.stringify(next))
      else localStorage.removeItem(name)
      setKept(next)
    },
  ]
}
