import { queryOptions } from '@tanstack/react-query'
import { api, done } from './client'

export const session = () => queryOptions({ queryKey: ['session'], queryFn: () => done(api.GET('/session')), retry: false, staleTime: 60_000 })

export const changes = () => queryOptions({ queryKey: ['changes'], queryFn: () => done(api.GET('/changes')), refetchInterval: 4000 })

export const change = (id: number) =>
  queryOptions({ queryKey: ['change', id], queryFn: () => done(api.GET('/changes/{id}', { params: { path: { id } } })) })

export const hostRun = (id: number, host: string, moved: string) =>
  queryOptions({
    queryKey: ['run', id, host, moved],
    queryFn: () => done(api.GET('/changes/{id}/runs/{host}', { params: { path: { id, host } } })),
    placeholderData: (before) => (before?.host === host ? before : undefined),
  })

export const signIn = (name: string, password: string) =>
  done(api.POST('/session', { body: { name, password, kind: 'session', label: 'console' } }))

export const signOut = () => done(api.DELETE('/session'))

// What may be told of a change; each is one call.
export type Deed = 'rehearse' | 'offer' | 'approve' | 'decline' | 'climb' | 'pause' | 'resume' | 'stop'

export function act(id: number, deed: Deed, digest: string, because = ''): Promise<unknown> {
  const params = { params: { path: { id } } }
  switch (deed) {
    case 'rehearse':
      return done(api.POST('/changes/{id}/rehearsal', params))
    case 'offer':
      return done(api.POST('/changes/{id}/offer', params))
    case 'approve':
      return done(api.POST('/changes/{id}/approval', { ...params, body: { digest, because } }))
    case 'decline':
      return done(api.POST('/changes/{id}/decline', { ...params, body: { digest, because } }))
    case 'climb':
      return done(api.POST('/changes/{id}/climb', params))
    case 'pause':
    case 'resume':
    case 'stop':
      return done(api.POST('/changes/{id}/orders', { ...params, body: { order: deed } }))
  }
}
