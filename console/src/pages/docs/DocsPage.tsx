import { useQuery } from '@tanstack/react-query'
import { useEffect } from 'react'
import Markdown from 'react-markdown'
import { Link, useLocation, useParams } from 'react-router'
import rehypeSlug from 'rehype-slug'
import remarkGfm from 'remark-gfm'
import { documents } from '../../api/documents'
import { Page } from '../../ui/Page'
import { Waiting } from '../../ui/States'

// to turns a link between documents into one between pages; others leave the console.
function to(href: string): string | undefined {
  const found = /^(?:\.\/)?([a-z-]+)\.md(#.*)?$/.exec(href)
  return found ? `/docs/${found[1]}${found[2] ?? ''}` : undefined
}

// DocsPage shows a piece of the documentation, as the server was built with it.
export function DocsPage() {
  const name = useParams().name ?? ''
  const { hash } = useLocation()
  const text = useQuery({ queryKey: ['docs', name], queryFn: () => documents[name]?.() ?? null, staleTime: Infinity })
  useEffect(() => {
    if (text.data) document.getElementById(decodeURIComponent(hash.slice(1)))?.scrollIntoView()
  }, [text.data, hash])
  const names = Object.keys(documents).sort()
  return (
    <Page title="Documentation" name={name} help="console">
      <div className="work">
        <article className="document">
          {text.isPending && <Waiting what={name} />}
          {text.data === null && <p>There is no piece with this name. The others are listed beside.</p>}
          {text.data && (
            <Markdown
              remarkPlugins={[remarkGfm]}
              rehypePlugins={[rehypeSlug]}
              components={{
                h1: ({ children }) => <h2 className="document-title">{children}</h2>,
                a: ({ href = '', children }) => {
                  const page = to(href)
                  if (page) return <Link to={page}>{children}</Link>
                  return /^https:/.test(href) || href.startsWith('#') ? <a href={href}>{children}</a> : <>{children}</>
                },
                img: ({ alt }) => <span className="second">{alt}</span>,
                table: ({ children }) => (
                  <div className="scrolls" tabIndex={0} role="group" aria-label="Table">
                    <table className="list">{children}</table>
                  </div>
                ),
                pre: ({ children }) => <pre className="file" tabIndex={0}>{children}</pre>,
              }}
            >
              {text.data}
            </Markdown>
          )}
        </article>
        <aside>
          <h2>All pieces</h2>
          <ul className="plain">
            {names.map((n) => (
              <li key={n}>
                <Link to={`/docs/${n}`} aria-current={n === name ? 'page' : undefined}>
                  {n}
                </Link>
              </li>
            ))}
          </ul>
        </aside>
      </div>
    </Page>
  )
}
