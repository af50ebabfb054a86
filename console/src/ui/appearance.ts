import { useSyncExternalStore } from 'react'
import { dark, light, type Palette } from '../theme'

export type Appearance = 'system' | 'light' | 'dark'

const stored = 'wladder.appearance'
const system = window.matchMedia('(prefers-color-scheme: dark)')
const listeners = new Set<() => void>()

function subscribe(changed: () => void): () => void {
  listeners.add(changed)
  system.addEventListener('change', changed)
  return () => {
    listeners.delete(changed)
    system.removeEventListener('change', changed)
  }
}

function chosen(): Appearance {
  const text = localStorage.getItem(stored)
  return text === 'light' || text === 'dark' ? text : 'system'
}

const isDark = () => (chosen() === 'system' ? system.matches : chosen() === 'dark')

// useAppearance gives what the person chose, and a way to choose.
export function useAppearance(): [Appearance, (next: Appearance) => void] {
  return [
    useSyncExternalStore(subscribe, chosen),
    (next) => {
      if (next === 'system') localStorage.removeItem(stored)
      else localStorage.setItem(stored, next)
      listeners.forEach((f) => f())
    },
  ]
}

// usePalette gives the colours that go with it.
export function usePalette(): Palette {
  return useSyncExternalStore(subscribe, isDark) ? dark : light
}
