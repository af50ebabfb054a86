import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, done, type HostRun, type Query, type RunState, type Schemas } from './client'

export const session = () => queryOptions({ queryKey: ['session'], queryFn: () => done(api.GET('/session')), retry: false, staleTime: 60_000 })

export type ChangeFilter = Query<'/changes'>

// changesPage is how many changes stand on a page.
export const changesPage = 50

export const changes = (filter: ChangeFilter) =>
  queryOptions({ queryKey: ['changes', filter], queryFn: () => done(api.GET('/changes', { params: { query: filter } })), refetchInterval: 4000, placeholderData: keepPreviousData })

// underWay are the changes of which a climb has not ended.
export const underWay = () =>
  queryOptions({ queryKey: ['changes', 'under way'], queryFn: () => done(api.GET('/changes', { params: { query: { under_way: 'true', limit: 50 } } })), refetchInterval: 4000 })

export const today = () => queryOptions({ queryKey: ['today'], queryFn: () => done(api.GET('/today')), refetchInterval: 5000 })

export const calendar = (from: string, to: string) => queryOptions({ queryKey: ['calendar', from, to], queryFn: () => done(api.GET('/calendar', { params: { query: { from, to } } })) })

export type HostFilter = Query<'/hosts'>

export const hosts = (filter: HostFilter) =>
  queryOptions({ queryKey: ['hosts', filter], queryFn: () => done(api.GET('/hosts', { params: { query: filter } })), placeholderData: keepPreviousData, refetchInterval: 15_000 })

const ofHost = (name: string) => ({ params: { path: { name } } })

export const host = (name: string) => queryOptions({ queryKey: ['host', name], queryFn: () => done(api.GET('/hosts/{name}', ofHost(name))) })

export const hostServices = (name: string) => queryOptions({ queryKey: ['host', name, 'services'], queryFn: () => done(api.GET('/hosts/{name}/services', ofHost(name))) })

// hostFiles connects to the host: it is asked for, and kept until it is asked for again.
export const hostFiles = (name: string, service: string, asked: boolean) =>
  queryOptions({
    queryKey: ['host', name, 'files', service],
    queryFn: () => done(api.GET('/hosts/{name}/files', { params: { path: { name }, query: { service } } })),
    enabled: asked,
    staleTime: Infinity,
    gcTime: 10 * 60_000,
    retry: false,
  })

export const settingHistory = (name: string, service: string, file: string, address: string) =>
  queryOptions({
    queryKey: ['host', name, 'history', service, file, address],
    queryFn: () => done(api.GET('/hosts/{name}/history', { params: { path: { name }, query: { service, file, address } } })),
    retry: false,
  })

export const drift = (name: string) => queryOptions({ queryKey: ['drift', name], queryFn: () => done(api.GET('/drift', { params: { query: { host: name } } })) })

export const lookForDrift = (where: string) => done(api.POST('/drift', { body: { where } }))

// drifted reads a host: what stands at a path of it beside what was left there.
export const drifted = (body: Schemas['PathOf']) => done(api.POST('/drift/difference', { body }))

export const acceptDrift = (body: Schemas['PathOf']) => done(api.POST('/drift/acceptance', { body }))

export const survey = (where: string) => done(api.POST('/survey', { body: { where } }))

export const setAside = (name: string, body: Schemas['HostChange']) => done(api.PATCH('/hosts/{name}', { ...ofHost(name), body }))

export const hostKey = (name: string) => queryOptions({ queryKey: ['host', name, 'key'], queryFn: () => done(api.GET('/hosts/{name}/key', ofHost(name))), retry: false, gcTime: 0 })

export const pinKey = (name: string, fingerprint: string) => done(api.POST('/hosts/{name}/key', { ...ofHost(name), body: { fingerprint } }))

export const loadHosts = (body: Schemas['Host'][]) => done(api.POST('/hosts', { body }))

export const services = () => queryOptions({ queryKey: ['services'], queryFn: () => done(api.GET('/services', { params: { query: { limit: 500 } } })) })

export const serviceParts = (name: string, version: number) =>
  queryOptions({ queryKey: ['service', name, version], queryFn: () => done(api.GET('/services/{name}/parts', { params: { path: { name }, query: { version: version || undefined } } })) })

export const serviceInForce = (name: string) => queryOptions({ queryKey: ['service', name, 'in force'], queryFn: () => done(api.GET('/services/{name}/in-force', { params: { path: { name } } })), retry: false, staleTime: 30_000 })

const asYAML = { bodySerializer: (text: string) => text, headers: { 'Content-Type': 'application/yaml' } }

// askForPolicy asks for another policy, to which a second admin has to agree.
export const askForPolicy = (source: string) => done(api.PUT('/policy', { body: source, ...asYAML }))

export const loadService = (source: string) => done(api.POST('/services', { body: source, ...asYAML }))

export const approveService = (name: string, digest: string) => done(api.POST('/services/{name}/approval', { params: { path: { name } }, body: { digest, because: '' } }))

export const withdrawService = (name: string, digest: string, because: string) => done(api.POST('/services/{name}/withdrawal', { params: { path: { name } }, body: { digest, because } }))

// compared asks hosts: it connects to each.
export const compared = (body: Schemas['Comparing']) => done(api.POST('/comparisons', { body }))

export type RecordFilter = Query<'/record/told'>

export const recordPage = 50

export const told = (filter: RecordFilter) =>
  queryOptions({ queryKey: ['record', filter], queryFn: () => done(api.GET('/record/told', { params: { query: filter } })), placeholderData: keepPreviousData, refetchInterval: 15_000 })

export const verification = () => queryOptions({ queryKey: ['verification'], queryFn: () => done(api.GET('/record/verification')), staleTime: 60_000 })

export const policy = () => queryOptions({ queryKey: ['policy'], queryFn: () => done(api.GET('/policy')) })

export const secrets = () => queryOptions({ queryKey: ['secrets'], queryFn: () => done(api.GET('/secrets')) })

export const receivers = () => queryOptions({ queryKey: ['receivers'], queryFn: () => done(api.GET('/receivers')) })

export const forms = () => queryOptions({ queryKey: ['forms'], queryFn: () => done(api.GET('/forms')) })

export const draftForm = (name: string, blanks: { [name: string]: string }) => done(api.POST('/forms/{name}/draft', { params: { path: { name } }, body: { blanks } }))

export const draft = (source: string) => done(api.POST('/changes', { body: source, ...asYAML }))

// revise saves a text that rests on a revision; where there is a newer one, the server says so (412).
export const revise = (id: number, basis: number, source: string) =>
  done(api.POST('/changes/{id}/revisions', { params: { path: { id } }, body: source, ...asYAML, headers: { ...asYAML.headers, 'If-Match': `"${basis}"` } }))

// checked says what is wrong with a text, and which hosts it fits; nothing is kept.
export const checked = (source: string) =>
  queryOptions({
    queryKey: ['checked', source],
    queryFn: () => done(api.POST('/drafts/check', { body: source, ...asYAML })),
    enabled: source.trim() !== '',
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    retry: false,
  })

// preview says what a text comes to on one host; again has the host's files read anew.
export const preview = (text: string, host: string, again: boolean) => done(api.POST('/drafts/preview', { body: { text, host, again } }))

// previewed is the same by the copy of the files that was last read.
export const previewed = (text: string, host: string) =>
  queryOptions({
    queryKey: ['previewed', host, text],
    queryFn: () => preview(text, host, false),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    retry: false,
  })

export const draftKeys = () => queryOptions({ queryKey: ['draft keys'], queryFn: () => done(api.GET('/drafts/keys')), staleTime: Infinity })

export const labels = () => queryOptions({ queryKey: ['labels'], queryFn: () => done(api.GET('/labels')), staleTime: 60_000 })

// derived gives the edits that turn a file of a host into a copy that was edited: it reads the host.
export const derived = (name: string, body: Schemas['EditedCopy']) => done(api.POST('/hosts/{name}/edited', { ...ofHost(name), body }))

// ask puts probes to hosts without a change.
export const ask = (body: Schemas['AskOrder']) => done(api.POST('/ask', { body }))

export const giveHalt = (body: Schemas['Halting']) => done(api.POST('/halts', { body }))

export const liftHalt = (number: number, because: string) => done(api.POST('/halts/{id}/lifting', { params: { path: { id: number } }, body: { digest: '', because } }))

export interface Found {
  kind: string
  words: string
  to: string
}

// found looks for changes, hosts, services and people by a part of their names.
export const found = (text: string) =>
  queryOptions({
    queryKey: ['found', text],
    enabled: text !== '',
    placeholderData: keepPreviousData,
    queryFn: async ({ client }): Promise<Found[]> => {
      const has = (words: string) => words.toLowerCase().includes(text.toLowerCase())
      const [someChanges, someHosts, someServices, some] = await Promise.all([
        done(api.GET('/changes', { params: { query: { text, limit: 6 } } })),
        done(api.GET('/hosts', { params: { query: { name: text, limit: 6 } } })),
        client.fetchQuery({ ...services(), staleTime: 60_000 }),
        client.fetchQuery({ ...people(), staleTime: 60_000 }),
      ])
      return [
        ...someChanges.map((c) => ({ kind: `change ${c.id}`, words: c.title, to: `/changes/${c.id}` })),
        ...someHosts.map((h) => ({ kind: 'host', words: h.name, to: `/hosts/${h.name}` })),
        ...someServices.filter((s) => has(s.name) || has(s.title)).slice(0, 6).map((s) => ({ kind: 'service', words: s.name, to: `/services/${s.name}` })),
        ...some.filter((p) => has(p.name) || has(p.display)).slice(0, 6).map((p) => ({ kind: 'person', words: p.display, to: `/record?by=${p.name}` })),
      ]
    },
  })

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

export const waysIn = (why: string | null) =>
  queryOptions({ queryKey: ['ways-in', why], queryFn: () => done(api.GET('/session/ways', { params: { query: why ? { why } : {} } })) })

export const signOut = () => done(api.DELETE('/session'))

// What may be told of a change; each is one call.
export type Deed =
  | 'rehearse' | 'rehearse-missed' | 'offer' | 'approve' | 'emergency' | 'decline' | 'take-approval-back' | 'review'
  | 'climb' | 'climb-behind' | 'pause' | 'resume' | 'stop' | 'roll-back' | 'return' | 'follow-up'

export function act(id: number, deed: Deed, digest: string, because = ''): Promise<unknown> {
  const params = { params: { path: { id } } }
  switch (deed) {
    case 'rehearse':
      return done(api.POST('/changes/{id}/rehearsal', params))
    case 'rehearse-missed':
      return done(api.POST('/changes/{id}/rehearsal', { params: { path: { id }, query: { hosts: 'missed' } } }))
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

export const look = (id: number, body: Schemas['Looking']) => done(api.PUT('/changes/{id}/looked', { params: { path: { id } }, body }))

export const override = (id: number, body: Schemas['Overriding']) => done(api.POST('/changes/{id}/overrides', { params: { path: { id } }, body }))

export const comment = (id: number, body: Schemas['NewComment']) => done(api.POST('/changes/{id}/comments', { params: { path: { id } }, body }))

export const settle = (id: number, number: number) => done(api.POST('/changes/{id}/comments/{comment}/settlement', { params: { path: { id, comment: String(number) } } }))

// course is how the hosts of a climb stood over its time; it moves while that goes on.
export const course = (id: number, climb: number, moves: boolean) =>
  queryOptions({ queryKey: ['course', id, climb, moves], queryFn: () => done(api.GET('/changes/{id}/course', { params: { path: { id } } })), refetchInterval: moves ? 20_000 : false })

// latencies are how long answers to probes took, before and after.
export const latencies = (id: number, climb: number, moves: boolean) =>
  queryOptions({ queryKey: ['latencies', id, climb, moves], queryFn: () => done(api.GET('/changes/{id}/latencies', { params: { path: { id } } })), refetchInterval: moves ? 20_000 : false })

// runsPage is how many hosts of a climb are listed at once.
export const runsPage = 200

export const runsIn = (id: number, state: RunState | undefined, after: number) =>
  queryOptions({
    queryKey: ['listed', id, state, after],
    queryFn: () => done(api.GET('/changes/{id}/runs', { params: { path: { id }, query: { state, after, limit: runsPage } } })),
    enabled: state !== undefined,
    placeholderData: keepPreviousData,
    refetchInterval: 5000,
  })

export const differences = (id: number, from: string, to: string) =>
  queryOptions({
    queryKey: ['differences', id, from, to],
    queryFn: () => done(api.GET('/changes/{id}/differences', { params: { path: { id }, query: { from, to } } })),
    enabled: from !== '',
    staleTime: Infinity,
  })

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
