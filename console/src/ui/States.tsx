import { useEffect, useState, type ReactNode } from 'react'
import { Refusal } from '../api/client'

// Waiting says what is awaited, once that takes long enough to be noticed.
export function Waiting({ what }: { what: string }) {
  const [shown, setShown] = useState(false)
  useEffect(() => {
    const timer = setTimeout(() => setShown(true), 300)
    return () => clearTimeout(timer)
  }, [])
  return (
    <p className="second" role="status" aria-busy="true">
      {shown ? `Reading ${what} …` : '\u00a0'}
    </p>
  )
}

// Problem says what went wrong, and what a person can do next.
export function Problem({ error, again }: { error: unknown; again?: () => void }) {
  const status = error instanceof Refusal ? error.status : -1
  const words = error instanceof Error ? error.message : 'Something went wrong.'
  const way = status === 403 ? 'Ask an admin for the role, or a colleague who has it.' : status === 404 ? 'It was never here, or it is gone. The record says what became of it.' : ''
  return (
    <div className="problem" role="alert">
      <b>{status === 403 ? 'Not for your roles' : status === 404 ? 'Nothing here' : status === 0 ? 'No connection' : 'That did not work'}</b>
      <p className="wrap">
        {words} {way}
      </p>
      {again && status !== 403 && status !== 404 && (
        <button type="button" className="plain-button" onClick={again}>
          Try again
        </button>
      )}
    </div>
  )
}

// Nothing says that a list is empty, and what one can do.
export function Nothing({ children }: { children: ReactNode }) {
  return <p className="nothing">{children}</p>
}
