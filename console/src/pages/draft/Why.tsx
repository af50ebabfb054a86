import { put, said } from './document'
import { Line, Part } from './Field'
import { problemsOf } from './problems'
import type { Draft } from './useDraft'

// Why is what a reader finds in a year.
export function Why({ draft }: { draft: Draft }) {
  const set = (key: string) => (value: string) => draft.type(put(draft.text, [key], value))
  return (
    <Part id="why" title="Why" problems={problemsOf(draft, 'title', 'reason', 'ticket')}>
      <Line label="What changes, in a line" value={said(draft.of, 'title')} onValue={set('title')} size={60} wide />
      <Line label="Why, for whoever reads this later" value={said(draft.of, 'reason')} onValue={set('reason')} lines wide />
      <Line label="Ticket" value={said(draft.of, 'ticket')} onValue={set('ticket')} size={16} />
    </Part>
  )
}
