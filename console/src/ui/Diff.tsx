import { Fragment, type ReactNode } from 'react'

// differing splits two lines into what they share in front and behind, and
// what differs between, at the ends of words.
function differing(a: string, b: string): [number, number, number] {
  let front = 0
  while (front < a.length && front < b.length && a[front] === b[front]) front++
  while (front > 0 && /\w/.test(a[front - 1] ?? '') && (/\w/.test(a[front] ?? '') || /\w/.test(b[front] ?? ''))) front--
  let back = 0
  while (back < a.length - front && back < b.length - front && a[a.length - 1 - back] === b[b.length - 1 - back]) back++
  while (back > 0 && /\w/.test(a[a.length - back] ?? '') && /\w/.test(a[a.length - back - 1] ?? '')) back--
  return [front, a.length - back, b.length - back]
}

function marked(text: string, from: number, to: number): ReactNode {
  if (from >= to) return text
  return (
    <>
      {text.slice(0, from)}
      <u>{text.slice(from, to)}</u>
      {text.slice(to)}
    </>
  )
}

// Place is a line of a diff: in the file as it would be, or, old, as it is.
export interface Place {
  file: string
  line: number
  old: boolean
}

// placed gives each line of a unified diff its place; headers have none.
function placed(lines: string[]): (Place | undefined)[] {
  let file = ''
  let [before, after, left] = [0, 0, 0]
  return lines.map((text) => {
    if (left <= 0) {
      const hunk = /^@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@/.exec(text)
      if (text.startsWith('+++ ')) file = text.slice(4)
      if (hunk) {
        before = Number(hunk[1])
        after = Number(hunk[3])
        left = Number(hunk[2] ?? 1) + Number(hunk[4] ?? 1)
      }
      return undefined
    }
    const sign = text[0]
    if (sign === '\\') return undefined
    left -= sign === ' ' || sign === undefined ? 2 : 1
    if (sign === '-') return { file, line: before++, old: true }
    if (sign === '+') return { file, line: after++, old: false }
    before++
    return { file, line: after++, old: false }
  })
}

// Diff shows a unified diff: a mark in the gutter, a tint, and the words that
// differ underlined where one line became another. Where somebody may comment, the mark is
// what they press.
export function Diff({ text, onLine }: { text: string; onLine?: (at: Place) => void }) {
  const lines = text.replace(/\n$/, '').split('\n')
  const places = onLine ? placed(lines) : []
  const press = (i: number) => {
    const at = places[i]
    return at && onLine ? { at, onLine } : undefined
  }
  const shown: ReactNode[] = []
  for (let i = 0; i < lines.length; i++) {
    const line = lines[i] ?? ''
    const next = lines[i + 1] ?? ''
    const sign = line[0]
    if (line.startsWith('+++ ')) continue
    if (line.startsWith('--- ')) shown.push(<div className="second" key={i}>{line.slice(4)}</div>)
    else if (line.startsWith('@@')) shown.push(<div className="hunk" key={i}>{line}</div>)
    else if (sign === '-' && next[0] === '+' && lines[i + 2]?.[0] !== '+' && lines[i - 1]?.[0] !== '-') {
      const [from, a, b] = differing(line.slice(1), next.slice(1))
      shown.push(
        <Fragment key={i}>
          <Line sign="-" press={press(i)}>{marked(line.slice(1), from, a)}</Line>
          <Line sign="+" press={press(i + 1)}>{marked(next.slice(1), from, b)}</Line>
        </Fragment>,
      )
      i++
    } else shown.push(<Line key={i} sign={sign ?? ' '} press={press(i)}>{line.slice(1)}</Line>)
  }
  return <pre className="diff" tabIndex={0} aria-label="Unified diff">{shown}</pre>
}

function Line({ sign, press, children }: { sign: string; press?: { at: Place; onLine: (at: Place) => void }; children: ReactNode }) {
  const style = sign === '-' ? 'minus' : sign === '+' ? 'plus' : undefined
  return (
    <div className={style}>
      {press ? (
        <button type="button" className="sign" aria-label={`Comment on line ${press.at.line} ${press.at.old ? 'as it is' : 'as it would be'}`} onClick={() => press.onLine(press.at)}>
          {sign === '-' ? '−' : sign}
        </button>
      ) : (
        <span className="sign">{sign === '-' ? '−' : sign}</span>
      )}
      <span>{children}</span>
    </div>
  )
}
