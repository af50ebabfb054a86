import type { Account, ChangeDetail } from '../../api/client'
import type { Deed } from '../../api/queries'
import { counted } from '../../ui/Ago'

export interface Choice {
  deed: Deed
  words: string
  outlined?: boolean // destructive, or stops something: asked once more
  ask?: string
  reason?: boolean // wants a reason in words
  placeholder?: string
}

// choices says what this person may do with a change now, the likeliest first.
// It stops compiling when the API grows a state.
export function choices(c: ChangeDetail, me: Account): Choice[] {
  const may = (role: string) => me.roles.includes(role)
  const hosts = counted(c.hosts, 'host')
  switch (c.state) {
    case 'draft':
      return may('author') ? [{ deed: 'rehearse', words: 'Rehearse' }, ...missed(c)] : []
    case 'rehearsed':
      return may('author') ? [{ deed: 'offer', words: 'Offer for review' }, ...missed(c), { deed: 'rehearse', words: 'Rehearse all again' }] : []
    case 'offered':
      return [
        ...(may('reviewer') && !wrote(c, me)
          ? [
              ...(approves(c, me) ? [] : [{ deed: 'approve' as const, words: `Approve for ${hosts}` }]),
              { deed: 'decline' as const, words: 'Decline', outlined: true, ask: 'Decline this plan?', reason: true },
            ]
          : []),
        ...takeBack(c, me),
        ...(may('operator') && c.review.alone?.includes(me.name)
          ? [{ deed: 'emergency' as const, words: 'Approve alone, in an emergency', outlined: true, ask: `Approve alone for ${hosts}? Another reviewer looks at it afterwards.`, reason: true, placeholder: 'What the emergency is' }]
          : []),
      ]
    case 'approved':
      return [
        ...(may('operator') ? [{ deed: 'climb' as const, words: `Let it climb: ${hosts}`, ask: `This changes ${hosts}, stage by stage. Let it climb?` }] : []),
        ...takeBack(c, me),
      ]
    case 'climbing':
      return [...(may('operator') ? whileClimbing(c) : []), ...takeBack(c, me)]
    case 'completed':
    case 'stopped':
      return [...(may('operator') && goesOn(c) ? whileClimbing(c) : []), ...afterwards(c, me), ...review(c, me)]
    case 'countered':
      return review(c, me)
    case 'withdrawn':
      return []
  }
}

// mayRevise tells whether somebody may write a new revision of a change now.
export function mayRevise(c: ChangeDetail, me: Account): boolean {
  const open = c.state === 'draft' || c.state === 'rehearsed' || c.state === 'offered' || c.state === 'approved'
  return open && me.roles.includes('author') && (me.name === c.author || (c.review.named ?? []).includes(me.name))
}

// missed has those hosts alone rehearsed again that are not in the plan.
function missed(c: ChangeDetail): Choice[] {
  const r = c.rehearsal
  const n = r?.ended_at && r.revision === c.revision ? r.hosts - r.planned : 0
  return n > 0 && r && r.planned > 0 ? [{ deed: 'rehearse-missed', words: `Rehearse ${counted(n, 'host')} again` }] : []
}

// wrote tells whether somebody wrote of the change, and so cannot approve it.
const wrote = (c: ChangeDetail, me: Account) => me.name === c.author || (c.review.wrote ?? []).includes(me.name)

// approves tells whether somebody's approval of the plan stands.
function approves(c: ChangeDetail, me: Account): boolean {
  const said = c.approvals.filter((a) => a.digest === c.rehearsal?.digest && (a.account === me.name || a.verdict === 'declined')).at(-1)
  return said?.account === me.name && (said.verdict === 'approved' || said.verdict === 'emergency')
}

function takeBack(c: ChangeDetail, me: Account): Choice[] {
  if (!approves(c, me)) return []
  return [{ deed: 'take-approval-back', words: 'Withdraw my approval', outlined: true, ask: 'Have your approval count no more? A climb that lacks it pauses.', reason: true, placeholder: 'Why it counts no more' }]
}

// review is what somebody else says of what was approved in an emergency.
function review(c: ChangeDetail, me: Account): Choice[] {
  const alone = c.approvals.filter((a) => a.verdict === 'emergency').map((a) => a.account)
  if (!c.review_due || !me.roles.includes('reviewer') || wrote(c, me) || alone.includes(me.name)) return []
  return [{ deed: 'review', words: 'Review what was approved alone', ask: 'What do you think of it?', reason: true, placeholder: 'What you think of it' }]
}

// afterwards is what may be done with a change that has climbed.
function afterwards(c: ChangeDetail, me: Account): Choice[] {
  const all: Choice[] = []
  const behind = c.behind_count ?? 0
  if (me.roles.includes('operator') && behind > 0) all.push({ deed: 'climb-behind', words: `Take ${counted(behind, 'host')} that ${behind === 1 ? 'was' : 'were'} passed over`, ask: `This changes ${counted(behind, 'host')} under the same approval. Let it climb?` })
  if (me.roles.includes('operator') && c.temporary && c.temporary.waits > 0) all.push({ deed: 'return', words: 'Go back now', outlined: true, ask: `Have ${counted(c.temporary.waits, 'host')} go back before the time?`, reason: true, placeholder: 'Why it goes back now' })
  if (me.roles.includes('operator') && (c.climb?.state === 'completed' || c.climb?.state === 'stopped') && !c.prolongs) all.push(...rollBack(c))
  const left = (c.rehearsal?.hosts ?? 0) - (c.counts['done'] ?? 0)
  if (me.roles.includes('author') && !c.prolongs && !c.climb?.returns && left > 0) all.push({ deed: 'follow-up', words: 'Draft a follow-up', ask: 'Draft a change with the same edits, for the hosts that are not done with this one?' })
  return all
}

// goesOn tells whether a climb of a change has not ended: also one that takes it back.
export function goesOn(c: ChangeDetail): boolean {
  return c.climb !== undefined && c.climb.state !== 'completed' && c.climb.state !== 'stopped'
}

function whileClimbing(c: ChangeDetail): Choice[] {
  const queued = c.counts['queued'] ?? 0
  const left = counted(queued, 'host')
  const out = (c.counts['working'] ?? 0) + (c.counts['soaking'] ?? 0) + (c.counts['unknown'] ?? 0)
  const underWay = (does: string) => (out > 0 ? `; ${counted(out, 'host')} under way ${does}` : '')
  const why = { reason: true, placeholder: 'Why, for whoever reads the record later' }
  const stop: Choice = { deed: 'stop', words: queued === 0 ? 'Stop' : `Stop, leaving ${left} out`, outlined: true, ask: `${left} will stay as they are${underWay('get their old files back')}; those that are done stay. Stop?`, ...why }
  switch (c.climb?.state) {
    case 'running':
      return [{ deed: 'pause', words: 'Pause', ask: `No further host starts${underWay('go on to their end')}. Pause?`, ...why }, stop, ...rollBack(c)]
    case 'paused':
    case 'waiting':
      return [
        queued === 0
          ? { deed: 'resume', words: 'Go on to the end', ask: 'No host is left to start: what failed, or was changed since, stays as it is. Go on?', ...why }
          : { deed: 'resume', words: `Go on with ${left}`, ask: c.climb.returns ? `${left} ${queued === 1 ? 'goes' : 'go'} back, stage by stage. Go on?` : `This changes ${left}, stage by stage. Go on?`, ...why },
        stop,
        ...rollBack(c),
      ]
    case 'stopping':
    case 'completed':
    case 'stopped':
    case undefined:
      return []
  }
}

// rollBack puts back all that was changed, whether it climbs still or has ended.
function rollBack(c: ChangeDetail): Choice[] {
  const done = c.counts['done'] ?? 0
  if (done === 0 || c.climb?.returns) return []
  return [{ deed: 'roll-back', words: `Roll back ${counted(done, 'host')}`, outlined: true, ask: `${counted(done, 'host')} that ${done === 1 ? 'is' : 'are'} done and all that are under way get their old files back, the newest stage first. Roll back?`, reason: true, placeholder: 'Why, for whoever reads the record later' }]
}
