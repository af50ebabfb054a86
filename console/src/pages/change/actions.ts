import type { Account, ChangeDetail } from '../../api/client'
import type { Deed } from '../../api/queries'
import { counted } from '../../ui/Ago'

export interface Choice {
  deed: Deed
  words: string
  outlined?: boolean // destructive, or stops something: asked once more
  ask?: string
  reason?: boolean // wants a reason in words
}

// choices says what this person may do with a change now, the likeliest first.
// It stops compiling when the API grows a state.
export function choices(c: ChangeDetail, me: Account): Choice[] {
  const may = (role: string) => me.roles.includes(role)
  const hosts = counted(c.hosts, 'host')
  switch (c.state) {
    case 'draft':
      return may('author') ? [{ deed: 'rehearse', words: 'Rehearse' }] : []
    case 'rehearsed':
      return may('author') ? [{ deed: 'offer', words: 'Offer for review' }, { deed: 'rehearse', words: 'Rehearse again' }] : []
    case 'offered':
      return may('reviewer') && me.name !== c.author
        ? [
            { deed: 'approve', words: `Approve for ${hosts}` },
            { deed: 'decline', words: 'Decline', outlined: true, ask: 'Decline this plan?', reason: true },
          ]
        : []
    case 'approved':
      return may('operator') ? [{ deed: 'climb', words: `Let it climb: ${hosts}`, ask: `This changes ${hosts}, stage by stage. Let it climb?` }] : []
    case 'climbing':
      return may('operator') ? whileClimbing(c) : []
    case 'completed':
    case 'stopped':
    case 'countered':
    case 'withdrawn':
      return []
  }
}

function whileClimbing(c: ChangeDetail): Choice[] {
  const left = counted(c.counts['queued'] ?? 0, 'host')
  const stop: Choice = { deed: 'stop', words: `Stop, leaving ${left} out`, outlined: true, ask: `${left} will stay as they are; hosts under way go on to their end. Stop?` }
  switch (c.climb?.state) {
    case 'running':
      return [{ deed: 'pause', words: 'Pause' }, stop]
    case 'paused':
    case 'waiting':
      return [{ deed: 'resume', words: `Go on with ${left}` }, stop]
    case 'stopping':
    case 'completed':
    case 'stopped':
    case undefined:
      return []
  }
}
