import { useEffect, useState } from 'react'
import { useLocation } from 'react-router'

export interface Section {
  id: string
  words: string
  count?: string
}

// Sections is a row of words for the parts of a long page: they scroll, and the part that one reads
// is marked.
export function Sections({ of }: { of: Section[] }) {
  const [at, setAt] = useState('')
  const ids = of.map((s) => s.id).join()
  const { hash } = useLocation()
  useEffect(() => {
    if (hash) document.getElementById(hash.slice(1))?.scrollIntoView()
  }, [hash, ids])
  useEffect(() => {
    const read = () => {
      const above = ids.split(',').filter((id) => (document.getElementById(id)?.getBoundingClientRect().top ?? Infinity) < window.innerHeight / 3)
      setAt(above.at(-1) ?? '')
    }
    read()
    document.addEventListener('scroll', read, { passive: true })
    return () => document.removeEventListener('scroll', read)
  }, [ids])
  return (
    <nav className="words" aria-label="On this page">
      {of.map((s) => (
        <a key={s.id} href={`#${s.id}`} aria-current={s.id === at ? 'location' : undefined}>
          {s.words}
          {s.count && s.count !== '0' && <span className="second"> {s.count}</span>}
        </a>
      ))}
    </nav>
  )
}
