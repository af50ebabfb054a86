import { useEffect, useSyncExternalStore } from 'react'

// Keys that act on a page; people switch them off where they get in the way of other programs
// that listen to keys (WCAG 2.2, 2.1.4).
const stored = 'wladder.keys'
const listeners = new Set<() => void>()

function subscribe(changed: () => void): () => void {
  listeners.add(changed)
  return () => listeners.delete(changed)
}

const on = () => localStorage.getItem(stored) !== 'off'

export function useKeysOn(): [boolean, (on: boolean) => void] {
  const now = useSyncExternalStore(subscribe, on)
  return [
    now,
    (next) => {
      if (next) localStorage.removeItem(stored)
      else localStorage.setItem(stored, 'off')
      listeners.forEach((f) => f())
    },
  ]
}

function typing(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName))
}

// useKeys has single keys do something while nobody types.
export function useKeys(keys: { [key: string]: () => void }) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || e.defaultPrevented || typing(e.target) || !on() || document.querySelector('[role=dialog]')) return
      const act = keys[e.key]
      if (!act) return
      e.preventDefault()
      act()
    }
    window.addEventListener('keydown', press)
    return () => window.removeEventListener('keydown', press)
  })
}
