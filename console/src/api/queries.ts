import { queryOptions } from '@tanstack/react-query'
import { api, done, type HostRun, type RunState, type Schemas } from './client'

export const session = () => queryOptions({ queryKey: ['session'], queryFn: () => done(api.GET('/session')), retry: false, staleTime: 60_000 })

export const changes = () => queryOptions({ queryKey: ['changes'], queryFn: () => done(api.GET('/changes')), refetchInterval: 4000 })

export const change = (id: number) =>
  queryOptions({ queryKey: ['change', id], queryFn: () => done(api.GET('/changes/{id}', { params: { path: { id } } })) })

export interface Known {
  asOf: string
  runs: HostRun[] // by number
}

// merged puts runs that changed among those that are known.
export function merged(known: HostRun[], fresh: HostRun[]): HostRun[] {
  const by = new Map(known.map((r) => [r.id, r]))
  for (const r of fresh) by.set(r.id, r)
  return [...by.values()].sort((a, b) => a.id - b.id)
}

// runs are those of a change's climb: read once, and from then on what changed
// since.
export const runs = (id: number, climb: number) =>
  queryOptions({
    queryKey: ['runs', id, climb],
    queryFn: async ({ client, queryKey }): Promise<Known> => {
      const known = client.getQueryData<Known>(queryKey)
      const out: Known = { asOf: '', runs: known?.runs ?? [] }
      for (let after = 0; ; ) {
        const page = await done(api.GET('/changes/{id}/runs', { params: { path: { id }, query: { after, since: known?.asOf } } }))
        out.asOf ||= page.as_of
        out.runs = merged(out.runs, page.runs)
        const last = page.runs.at(-1)
        if (!page.more || !last) return out
        after = last.id
      }
    },
  })

// wholeFiles are the files of one host of the plan, with all of their lines.
export const wholeFiles = (id: number, digest: string, host: string) =>
  queryOptions({ queryKey: ['whole', id, digest, host], queryFn: () => done(api.GET('/changes/{id}/rehearsal/hosts/{host}', { params: { path: { id, host } } })), staleTime: Infinity })

// picked names some hosts of a diff group at random.
export const picked = (id: number, group: string) => done(api.GET('/changes/{id}/rehearsal/picked', { params: { path: { id }, query: { group, limit: 3 } } }))

// firstIn is one host of a climb that stands in a state.
export const firstIn = (id: number, state: RunState | undefined) =>
  queryOptions({
    queryKey: ['first', id, state],
    queryFn: async () => (await done(api.GET('/changes/{id}/runs', { params: { path: { id }, query: { state, limit: 1 } } }))).runs[0] ?? null,
    enabled: state !== undefined,
  })

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
export type Deed =
  | 'rehearse' | 'offer' | 'approve' | 'emergency' | 'decline' | 'take-approval-back' | 'review'
  | 'climb' | 'climb-behind' | 'pause' | 'resume' | 'stop' | 'roll-back' | 'return' | 'follow-up'

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
    case 'emergency':
      return done(api.POST('/changes/{id}/emergency', { ...params, body: { digest, because } }))
    case 'take-approval-back':
      return done(api.POST('/changes/{id}/approval-withdrawal', { ...params, body: { digest, because } }))
    case 'review':
      return done(api.POST('/changes/{id}/review', { ...params, body: { digest, because } }))
    case 'return':
      return done(api.POST('/changes/{id}/return', { ...params, body: { digest, because } }))
    case 'follow-up':
      return done(api.POST('/changes/{id}/follow-up', { ...params, body: { digest: '', because } }))
    case 'climb-behind':
      return done(api.POST('/changes/{id}/climb', { params: { path: { id }, query: { hosts: 'behind' } } }))
    case 'climb':
      return done(api.POST('/changes/{id}/climb', params))
    case 'pause':
    case 'resume':
    case 'stop':
    case 'roll-back':
      return done(api.POST('/changes/{id}/orders', { ...params, body: { order: deed, because } }))
  }
}

// What may be told of one host of a climb, and of a gate's check.
export const orderHost = (id: number, host: string, body: Schemas['HostOrder']) => done(api.POST('/changes/{id}/runs/{host}/orders', { params: { path: { id, host } }, body }))

export const answer = (id: number, body: Schemas['Checked']) => done(api.POST('/changes/{id}/checks', { params: { path: { id } }, body }))

// What may be said of a change's plan.
export const acknowledge = (id: number, body: Schemas['Acknowledgement']) => done(api.POST('/changes/{id}/acknowledgements', { params: { path: { id } }, body }))

export const override = (id: number, body: Schemas['Overriding']) => done(api.POST('/changes/{id}/overrides', { params: { path: { id } }, body }))

export const comment = (id: number, body: Schemas['NewComment']) => done(api.POST('/changes/{id}/comments', { params: { path: { id } }, body }))

export const settle = (id: number, number: number) => done(api.POST('/changes/{id}/comments/{comment}/settlement', { params: { path: { id, comment: String(number) } } }))

export const people = () => queryOptions({ queryKey: ['people'], queryFn: () => done(api.GET('/accounts')), refetchInterval: 15_000 })

export const requests = (asked: boolean) =>
  queryOptions({ queryKey: ['requests'], queryFn: () => done(api.GET('/requests')), enabled: asked, refetchInterval: 15_000 })

export const signIns = () => queryOptions({ queryKey: ['sign-ins'], queryFn: () => done(api.GET('/session/sign-ins')) })

export const decide = (id: number, agreed: boolean) => done(api.POST('/requests/{id}/decision', { params: { path: { id } }, body: { agreed } }))

export const keepOut = (name: string, disabled: boolean) => changePerson(name, { disabled })

export const addPerson = (body: Schemas['NewPerson']) => done(api.POST('/accounts', { body }))

export const changePerson = (name: string, body: Schemas['PersonChange']) => done(api.PATCH('/accounts/{name}', { params: { path: { name } }, body }))

export const makeToken = (body: Schemas['NewToken']) => done(api.POST('/tokens', { body }))

export const endSignIns = (name: string) => done(api.DELETE('/accounts/{name}/sign-ins', { params: { path: { name } } }))

export const endSignIn = (id: number) => done(api.DELETE('/session/sign-ins/{id}', { params: { path: { id } } }))

export const changePassword = (old: string, next: string) => done(api.PUT('/session/password', { body: { old, new: next } }))
