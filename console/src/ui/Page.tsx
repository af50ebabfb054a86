import { useEffect, type ReactNode } from 'react'

interface Props {
  title: ReactNode
  name?: string // of the page, where the title is more than text
  over?: ReactNode // a line above the title
  action?: ReactNode // the one next action
  help: string // the piece of the docs that this page belongs to
  children: ReactNode
}

// Page is the frame within the frame: title at the left, the one next action at the right, and
// at the foot the way to what is written about it.
export function Page({ title, name, over, action, help, children }: Props) {
  const text = name ?? (typeof title === 'string' ? title : '')
  useEffect(() => {
    document.title = `${text} · Wide Ladder`
  }, [text])
  return (
    <main id="work" tabIndex={-1}>
      <div className="head">
        <div>
          {over && <div className="second">{over}</div>}
          <h1>{title}</h1>
        </div>
        {action}
      </div>
      {children}
      <footer className="foot">
        <a href={`/docs/${help}`} target="_blank" rel="noreferrer">
          About this page
        </a>
      </footer>
    </main>
  )
}
