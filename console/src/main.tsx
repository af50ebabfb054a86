import '@fontsource/ibm-plex-mono/latin-400.css'
import '@fontsource/ibm-plex-sans/latin-400.css'
import '@fontsource/ibm-plex-sans/latin-500.css'
import '@fontsource/ibm-plex-sans/latin-600.css'
import { QueryClient, QueryClientProvider, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, ConfigProvider } from 'antd'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Link, Navigate, Route, Routes } from 'react-router'
import type { Account } from './api/client'
import { session, signOut } from './api/queries'
import './index.css'
import { ChangePage } from './pages/change/ChangePage'
import { ChangesPage } from './pages/changes/ChangesPage'
import { PeoplePage } from './pages/people/PeoplePage'
import { SignInPage } from './pages/sign-in/SignInPage'
import { light, theme, variables } from './theme'

function Bar({ me }: { me: Account }) {
  const cache = useQueryClient()
  const leave = async () => {
    await signOut().catch(() => undefined)
    cache.clear()
    await cache.invalidateQueries()
    location.assign('/')
  }
  return (
    <header className="bar">
      <Link className="name" to="/">
        <svg viewBox="0 0 16 16" width={16} height={16} aria-hidden="true">
          <path d="M4 1v14M12 1v14M4 4h8M4 8h8M4 12h8" stroke="var(--spruce)" strokeWidth={1.6} fill="none" />
        </svg>
        Wide Ladder
      </Link>
      <Link to="/">Changes</Link>
      <Link to="/people">People</Link>
      <span className="rest" />
      <span>
        {me.display} <span className="second">{me.roles.join(', ') || 'viewer'}</span>
      </span>
      <Button size="small" onClick={leave}>
        Sign out
      </Button>
    </header>
  )
}

function Console() {
  const me = useQuery(session())
  if (me.isPending) return null
  if (!me.data) return <SignInPage />
  if (me.data.must_change)
    return (
      <BrowserRouter>
        <Bar me={me.data} />
        <p className="notice">Somebody else knows your password. Set one of your own below; until then nothing else opens.</p>
        <PeoplePage me={me.data} />
      </BrowserRouter>
    )
  return (
    <BrowserRouter>
      <Bar me={me.data} />
      <Routes>
        <Route path="/" element={<ChangesPage />} />
        <Route path="/changes/:id" element={<ChangePage me={me.data} />} />
        <Route path="/people" element={<PeoplePage me={me.data} />} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
    </BrowserRouter>
  )
}

const root = document.getElementById('root')
if (root) {
  for (const [name, value] of Object.entries(variables(light))) document.documentElement.style.setProperty(name, value)
  createRoot(root).render(
    <StrictMode>
      <ConfigProvider theme={theme(light)}>
        <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { staleTime: 1000, retry: 1 } } })}>
          <Console />
        </QueryClientProvider>
      </ConfigProvider>
    </StrictMode>,
  )
}
