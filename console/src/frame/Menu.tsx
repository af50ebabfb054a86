import { useEffect, useId, useRef, useState, type ReactNode } from 'react'
import { useLocation } from 'react-router'

// Menu opens below its name, and closes with Escape, a press elsewhere or another page.
export function Menu({ label, right, children }: { label: string; right?: boolean; children: ReactNode }) {
  const [open, setOpen] = useState(false)
  const at = useLocation()
  const [seen, setSeen] = useState(at.key)
  if (seen !== at.key) {
    setSeen(at.key)
    setOpen(false)
  }
  const id = useId()
  const whole = useRef<HTMLDivElement>(null)
  const button = useRef<HTMLButtonElement>(null)
  useEffect(() => {
    if (!open) return
    const press = (e: Event) => {
      if (!whole.current?.contains(e.target as Node)) setOpen(false)
    }
    const key = (e: KeyboardEvent) => {
      if (e.key !== 'Escape') return
      setOpen(false)
      button.current?.focus()
    }
    document.addEventListener('pointerdown', press)
    document.addEventListener('focusin', press)
    document.addEventListener('keydown', key)
    return () => {
      document.removeEventListener('pointerdown', press)
      document.removeEventListener('focusin', press)
      document.removeEventListener('keydown', key)
    }
  }, [open])
  return (
    <div className="menu" ref={whole}>
      <button type="button" ref={button} aria-expanded={open} aria-controls={id} onClick={() => setOpen(!open)}>
        {label} <span aria-hidden="true">▾</span>
      </button>
      {open && (
        <div id={id} className={right ? 'menu-body right' : 'menu-body'}>
          {children}
        </div>
      )}
    </div>
  )
}
