import { useState, type ReactNode } from 'react'

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

// What stands in a diff for a file that does not exist, as diff(1) has it.
const nowhere = '/dev/null'

// headed names the file of a diff.
function headed(old: string, now: string): string {
  if (old === nowhere) return `${now} (new)`
  return now === nowhere ? `${old} (deleted)` : old
}

// placed gives each line of a unified diff its place; headers have none.
function placed(lines: string[]): (Place | undefined)[] {
  let [file, old] = ['', '']
  let [before, after, left] = [0, 0, 0]
  return lines.map((text) => {
    if (left <= 0) {
      const hunk = /^@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@/.exec(text)
      if (text.startsWith('--- ')) old = text.slice(4)
      if (text.startsWith('+++ ')) file = text.slice(4) === nowhere ? old : text.slice(4)
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

type Press = { at: Place; onLine: (at: Place) => void }

interface Row {
  sign: ' ' | '-' | '+' | 'file' | 'hunk'
  text: ReactNode
  press?: Press
}

// rowsOf reads a unified diff: the words that differ are marked where one line became another.
function rowsOf(text: string, onLine?: (at: Place) => void): Row[] {
  const lines = text.replace(/\n$/, '').split('\n')
  const places = placed(lines)
  const press = (i: number) => {
    const at = places[i]
    return at && onLine ? { at, onLine } : undefined
  }
  const rows: Row[] = []
  for (let i = 0; i < lines.length; i++) {
    const line = lines[i] ?? ''
    const next = lines[i + 1] ?? ''
    const sign = line[0]
    const heads = !places[i] // a line that goes may begin with "-- "
    if (heads && line.startsWith('+++ ')) continue
    if (heads && line.startsWith('--- ')) rows.push({ sign: 'file', text: headed(line.slice(4), next.slice(4)) })
    else if (heads && line.startsWith('@@')) rows.push({ sign: 'hunk', text: line })
    else if (sign === '-' && places[i + 1] && next[0] === '+' && lines[i + 2]?.[0] !== '+' && lines[i - 1]?.[0] !== '-') {
      const [from, a, b] = differing(line.slice(1), next.slice(1))
      rows.push({ sign: '-', text: marked(line.slice(1), from, a), press: press(i) }, { sign: '+', text: marked(next.slice(1), from, b), press: press(i + 1) })
      i++
    } else rows.push({ sign: sign === '-' || sign === '+' ? sign : ' ', text: line.slice(1), press: press(i) })
  }
  return rows
}

// foldFrom is how many unchanged lines in a row are folded, and around how many stay.
const foldFrom = 14
const around = 3

// folded gives the stretches of unchanged lines that are folded: their first row, and how many.
function folded(rows: Row[]): Map<number, number> {
  const folds = new Map<number, number>()
  for (let i = 0; i < rows.length; i++) {
    if (rows[i]?.sign !== ' ') continue
    let end = i
    while (rows[end]?.sign === ' ') end++
    if (end - i >= foldFrom) folds.set(i + around, end - i - 2 * around)
    i = end
  }
  return folds
}

// Diff shows a unified diff: a mark in the gutter, a tint, and the words that differ underlined.
// Where somebody may comment, the mark is what they press. Long unchanged stretches are folded.
export function Diff({ text, onLine, beside }: { text: string; onLine?: (at: Place) => void; beside?: boolean }) {
  const [open, setOpen] = useState<ReadonlySet<number>>(new Set())
  const rows = rowsOf(text, onLine)
  const folds = folded(rows)
  const shown: ReactNode[] = []
  for (let i = 0; i < rows.length; i++) {
    const row = rows[i]
    const fold = folds.get(i)
    if (!row) continue
    if (fold && !open.has(i)) {
      const at = i
      shown.push(
        <div key={i} className="fold">
          <button type="button" onClick={() => setOpen(new Set([...open, at]))}>
            … {fold} lines that stay
          </button>
        </div>,
      )
      i += fold - 1
    } else if (row.sign === 'file') shown.push(<div className="second" key={i}>{row.text}</div>)
    else if (row.sign === 'hunk') shown.push(<div className="hunk" key={i}>{row.text}</div>)
    else if (!beside) shown.push(<Line key={i} row={row} />)
    else if (row.sign === ' ') shown.push(<Pair key={i} left={row} right={row} />)
    else {
      const olds: Row[] = []
      const news: Row[] = []
      let k = i
      for (; rows[k]?.sign === '-'; k++) olds.push(rows[k]!)
      for (; rows[k]?.sign === '+'; k++) news.push(rows[k]!)
      for (let n = 0; n < Math.max(olds.length, news.length); n++) shown.push(<Pair key={`${i} ${n}`} left={olds[n]} right={news[n]} />)
      i = k - 1
    }
  }
  return (
    <pre className={beside ? 'diff beside' : 'diff'} tabIndex={0} aria-label={beside ? 'Diff, side by side' : 'Unified diff'}>
      {shown}
    </pre>
  )
}

function Pair({ left, right }: { left?: Row; right?: Row }) {
  return (
    <div className="pair">
      {left ? <Line row={left} /> : <div className="none" />}
      {right ? <Line row={right} /> : <div className="none" />}
    </div>
  )
}

function Line({ row: { sign, text, press } }: { row: Row }) {
  const shown = sign === '-' ? '−' : sign
  return (
    <div className={sign === '-' ? 'minus' : sign === '+' ? 'plus' : undefined}>
      {press ? (
        <button type="button" className="sign" aria-label={`Comment on line ${press.at.line} ${press.at.old ? 'as it is' : 'as it would be'}`} onClick={() => press.onLine(press.at)}>
          {shown}
        </button>
      ) : (
        <span className="sign">{shown}</span>
      )}
      <span>{text}</span>
    </div>
  )
}
