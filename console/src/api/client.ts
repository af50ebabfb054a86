import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

// Query is what a list can be asked for.
export type Query<path extends '/changes' | '/hosts' | '/record/told'> = NonNullable<paths[path]['get']['parameters']['query']>

export type Change = Schemas['Change']
export type ChangeDetail = Schemas['ChangeDetail']
export type Climb = Schemas['Climb']
export type HostRun = Schemas['HostRun']
export type RunState = HostRun['state']
export type Group = Schemas['Group']
export type Outline = Schemas['Outline']
export type Finding = Schemas['Finding']
export type Comment = Schemas['Comment']
export type Review = Schemas['Review']
export type Account = Schemas['Account']
export type Person = Schemas['Person']
export type Request = Schemas['Request']
export type SignInRow = Schemas['SignInRow']
export type Today = Schemas['Today']
export type Host = Schemas['Host']
export type HostFile = Schemas['HostFile']
export type Setting = Schemas['Setting']
export type Service = Schemas['Service']
export type ServiceParts = Schemas['ServiceParts']
export type Sentence = Schemas['Sentence']
export type Form = Schemas['Form']
export type Blank = Schemas['Blank']
export type DraftChecked = Schemas['DraftChecked']
export type Coming = Schemas['Coming']

export const api = createClient<paths>({ baseUrl: '/api/v1' })

// Refusal is a problem as the server says it.
export class Refusal extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail)
  }
}

// done gives an answer's data, or throws the refusal.
export async function done<T>(call: Promise<{ data?: T; error?: Schemas['Problem']; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    throw new Refusal(0, 'The server does not answer. What you see may be old.')
  }
  if (answer.error || !answer.response.ok) throw new Refusal(answer.response.status, answer.error?.detail ?? answer.response.statusText)
  return answer.data as T
}
