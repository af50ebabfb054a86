import '@fontsource/ibm-plex-mono/latin-400.css'
import '@fontsource/ibm-plex-sans/latin-400.css'
import '@fontsource/ibm-plex-sans/latin-500.css'
import '@fontsource/ibm-plex-sans/latin-600.css'
import { QueryCache, QueryClient, QueryClientProvider, useQuery } from '@tanstack/react-query'
import { ConfigProvider } from 'antd'
import { lazy, StrictMode, Suspense, useLayoutEffect, type ReactNode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Route, Routes } from 'react-router'
import { Refusal } from './api/client'
import { session } from './api/queries'
import { Bar } from './frame/Bar'
import './index.css'
import { SignInPage } from './pages/sign-in/SignInPage'
import { TodayPage } from './pages/today/TodayPage'
import { theme, variables } from './theme'
import { usePalette } from './ui/appearance'
import { Page } from './ui/Page'
import { Problem, Waiting } from './ui/States'

// What the start page does not need is loaded when it is opened.
const ChangePage = lazy(() => import('./pages/change/ChangePage').then((m) => ({ default: m.ChangePage })))
const ChangesPage = lazy(() => import('./pages/changes/ChangesPage').then((m) => ({ default: m.ChangesPage })))
const DraftPage = lazy(() => import('./pages/draft/DraftPage').then((m) => ({ default: m.DraftPage })))
const HostPage = lazy(() => import('./pages/host/HostPage').then((m) => ({ default: m.HostPage })))
const HostsPage = lazy(() => import('./pages/hosts/HostsPage').then((m) => ({ default: m.HostsPage })))
const PeoplePage = lazy(() => import('./pages/people/PeoplePage').then((m) => ({ default: m.PeoplePage })))
const DocsPage = lazy(() => import('./pages/docs/DocsPage').then((m) => ({ default: m.DocsPage })))
const RecordPage = lazy(() => import('./pages/record/RecordPage').then((m) => ({ default: m.RecordPage })))
const ServicePage = lazy(() => import('./pages/service/ServicePage').then((m) => ({ default: m.ServicePage })))
const ServicesPage = lazy(() => import('./pages/services/ServicesPage').then((m) => ({ default: m.ServicesPage })))

function Console() {
  const me = useQuery(session())
  if (me.isPending) return null
  if (!me.data) return me.error instanceof Refusal && me.error.status === 401 ? <SignInPage /> : <Problem error={me.error} again={() => void me.refetch()} />
  return (
    <BrowserRouter>
      <Bar me={me.data} />
      <Suspense fallback={<Waiting what="the page" />}>
        {me.data.must_change ? (
          <>
            <p className="notice">Somebody else knows your password. Set one of your own below; until then nothing else opens.</p>
            <PeoplePage me={me.data} />
          </>
        ) : (
          <Routes>
            <Route path="/" element={<TodayPage me={me.data} />} />
            <Route path="/changes" element={<ChangesPage me={me.data} />} />
            <Route path="/changes/:id" element={<ChangePage me={me.data} />} />
            <Route path="/draft" element={<DraftPage me={me.data} />} />
            <Route path="/hosts" element={<HostsPage me={me.data} />} />
            <Route path="/hosts/:name" element={<HostPage me={me.data} />} />
            <Route path="/services" element={<ServicesPage me={me.data} />} />
            <Route path="/services/:name" element={<ServicePage me={me.data} />} />
            <Route path="/record" element={<RecordPage />} />
            <Route path="/people" element={<PeoplePage me={me.data} />} />
            <Route path="/docs/:name" element={<DocsPage />} />
            <Route path="*" element={<Gone />} />
          </Routes>
        )}
      </Suspense>
    </BrowserRouter>
  )
}

function Gone() {
  return (
    <Page title="Nothing is at this address" help="console">
      <p>It may have been typed wrongly. “Go to” finds changes, hosts, services and people by their names.</p>
    </Page>
  )
}

// Looks gives the colours of the chosen appearance to everything inside.
function Looks({ children }: { children: ReactNode }) {
  const palette = usePalette()
  useLayoutEffect(() => {
    for (const [name, value] of Object.entries(variables(palette))) document.documentElement.style.setProperty(name, value)
    document.documentElement.style.colorScheme = palette.scheme
  }, [palette])
  return <ConfigProvider theme={theme(palette)}>{children}</ConfigProvider>
}

// Whose sign-in has ended, wherever that is noticed, signs in again, and is where they were.
const client: QueryClient = new QueryClient({
  defaultOptions: { queries: { staleTime: 1000, retry: (n, error) => n < 1 && !(error instanceof Refusal && error.status === 401) } },
  queryCache: new QueryCache({
    onError: (error, query) => {
      if (error instanceof Refusal && error.status === 401 && query.queryKey[0] !== 'session') void client.resetQueries({ queryKey: session().queryKey })
    },
  }),
})

const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <Looks>
        <QueryClientProvider client={client}>
          <Console />
        </QueryClientProvider>
      </Looks>
    </StrictMode>,
  )
}
