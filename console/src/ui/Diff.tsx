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

// Diff shows a unified diff: a mark in the gutter, a tint, and the words that
// differ underlined where one line became another.
export function Diff({ text }: { text: string }) {
  const lines = text.replace(/\n$/, '').split('\n')
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
          <Line sign="-">{marked(line.slice(1), from, a)}</Line>
          <Line sign="+">{marked(next.slice(1), from, b)}</Line>
        </Fragment>,
      )
      i++
    } else shown.push(<Line key={i} sign={sign ?? ' '}>{line.slice(1)}</Line>)
  }
  return <pre className="diff" tabIndex={0} aria-label="Unified diff">{shown}</pre>
}

function Line({ sign, children }: { sign: string; children: ReactNode }) {
  const style = sign === '-' ? 'minus' : sign === '+' ? 'plus' : undefined
  return (
    <div className={style}>
      <span className="sign">{sign === '-' ? '−' : sign}</span>
      <span>{children}</span>
    </div>
  )
}
