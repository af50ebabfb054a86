import type { Schemas } from '../../api/client'
import { Line, Pick as Select } from './Field'

// What is typed: a setting of a definition.
type Kind = Pick<Schemas['ServiceSetting'], 'type' | 'range' | 'choices' | 'measure'>

// bounds reads a range such as 512..8192.
export function bounds(range = ''): { min?: number; max?: number } {
  const found = /^(-?\d+)?\.\.(-?\d+)?$/.exec(range)
  return { min: found?.[1] ? Number(found[1]) : undefined, max: found?.[2] ? Number(found[2]) : undefined }
}

// outside says where a number is out of its range; empty where it is not.
export function outside(value: string, range = ''): string {
  const { min, max } = bounds(range)
  if (!/^-?\d+$/.test(value)) return ''
  if (min !== undefined && Number(value) < min) return `at least ${min}`
  return max !== undefined && Number(value) > max ? `at most ${max}` : ''
}

// Typed is a field for a value, as its type has it. A number out of its range stays as it was typed,
// and is told.
export function Typed({ of: s, value, onValue }: { of?: Kind; value: string; onValue: (value: string) => void }) {
  const said = [s?.range?.replace('..', ' to '), s?.measure].filter(Boolean).join(' ')
  const label = said ? `To, ${said}` : 'To'
  switch (s?.type) {
    case 'integer':
    case 'port': {
      if (value !== '' && !/^-?\d+$/.test(value)) break
      const wrong = outside(value, s.range)
      return (
        <label className="labelled">
          <span>{label}</span>
          <input className="go-field mono" type="number" step={1} {...bounds(s.range)} value={value} aria-invalid={wrong !== ''} onChange={(e) => onValue(e.target.value)} />
          {wrong && <span className="fault">{wrong}</span>}
        </label>
      )
    }
    case 'switch':
      return <Select label="To" value={value} of={[['', ''], ['on', 'on'], ['off', 'off']]} onValue={onValue} />
    case 'choice':
      return <Select label="To" value={value} of={['', ...(s.choices ?? [])].map((c): [string, string] => [c, c])} onValue={onValue} />
  }
  return <Line label={label} value={value} mono size={24} onValue={onValue} />
}
