import type { ReactNode } from 'react'

// Part is one of the five parts of a change, with what is wrong in it.
export function Part({ id, title, problems, children }: { id: string; title: string; problems: string[]; children: ReactNode }) {
  return (
    <section id={id} aria-label={title} className="part">
      <h2>{title}</h2>
      {children}
      {problems.map((text, i) => (
        <p key={i} className="fault wrap">
          {text}
        </p>
      ))}
    </section>
  )
}

interface Props {
  label: string
  value: string
  onValue: (value: string) => void
  hint?: string
  lines?: boolean
  mono?: boolean
  size?: number
  list?: string
  wide?: boolean
}

// Line is a labelled text.
export function Line({ label, value, onValue, hint, lines, mono, size = 12, list, wide }: Props) {
  const looks = mono ? 'go-field mono' : 'go-field'
  return (
    <label className={wide ? 'labelled wide' : 'labelled'}>
      <span>{label}</span>
      {lines ? (
        <textarea className={looks} rows={Math.min(16, Math.max(2, value.split('\n').length + 1))} placeholder={hint} value={value} spellCheck={!mono} onChange={(e) => onValue(e.target.value)} />
      ) : (
        <input className={looks} placeholder={hint} size={size} list={list} value={value} spellCheck={!mono} onChange={(e) => onValue(e.target.value)} />
      )}
    </label>
  )
}

// Pick is a labelled choice.
export function Pick({ label, value, of, onValue }: { label: string; value: string; of: [value: string, words: string][]; onValue: (value: string) => void }) {
  return (
    <label className="labelled">
      <span>{label}</span>
      <select className="go-field" value={value} onChange={(e) => onValue(e.target.value)}>
        {!of.some(([v]) => v === value) && <option value={value}>{value}</option>}
        {of.map(([v, words]) => (
          <option key={v} value={v}>
            {words}
          </option>
        ))}
      </select>
    </label>
  )
}
