import { useEffect, useRef, useState } from 'react'
import { useSearchParams } from 'react-router'

// useFilters keeps what is chosen in the address, so that it can be sent to a colleague.
export function useFilters(): [(name: string) => string, (name: string, value: string) => void] {
  const [params, setParams] = useSearchParams()
  const get = (name: string) => params.get(name) ?? ''
  const set = (name: string, value: string) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before)
        if (value) next.set(name, value)
        else next.delete(name)
        if (name !== 'before' && name !== 'after') {
          next.delete('before')
          next.delete('after')
        }
        return next
      },
      { replace: name !== 'before' && name !== 'after' },
    )
  return [get, set]
}

// Choice is a word of a sentence that opens to others.
export function Choice({ label, value, any, of, onChange }: { label: string; value: string; any: string; of: (string | [value: string, words: string])[]; onChange: (value: string) => void }) {
  const all = of.map((o): [string, string] => (typeof o === 'string' ? [o, o] : o))
  const known = value === '' || all.some(([v]) => v === value)
  return (
    <select className={value ? 'word chosen' : 'word'} aria-label={label} value={value} onChange={(e) => onChange(e.target.value)}>
      <option value="">{any}</option>
      {!known && <option value={value}>{value}</option>}
      {all.map(([v, words]) => (
        <option key={v} value={v}>
          {words}
        </option>
      ))}
    </select>
  )
}

// Text is a word of a sentence that one types; it counts a moment after the last key.
export function Text({ label, value, any, size = 14, mono, list, onChange }: { label: string; value: string; any: string; size?: number; mono?: boolean; list?: string; onChange: (value: string) => void }) {
  const [typed, setTyped] = useState(value)
  const [seen, setSeen] = useState(value)
  if (seen !== value) {
    setSeen(value)
    setTyped(value)
  }
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined)
  useEffect(() => () => clearTimeout(timer.current), [])
  const change = (next: string) => {
    setTyped(next)
    clearTimeout(timer.current)
    timer.current = setTimeout(() => onChange(next.trim()), 350)
  }
  return (
    <input
      className={`word${value ? ' chosen' : ''}${mono ? ' mono' : ''}`}
      aria-label={label}
      placeholder={any}
      size={Math.max(size, typed.length + 1)}
      list={list}
      value={typed}
      onChange={(e) => change(e.target.value)}
      onKeyDown={(e) => {
        if (e.key === 'Enter') {
          clearTimeout(timer.current)
          onChange(typed.trim())
        }
      }}
    />
  )
}
