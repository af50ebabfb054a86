import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { ChangeDetail } from '../../api/client'
import { change, look } from '../../api/queries'

// useRead says which diff groups of a plan this person has marked as read, and marks them. The server
// keeps it, so that others see whether anybody went through them; another plan is read anew.
export function useRead(d: ChangeDetail, me: string): { read: ReadonlySet<string>; mark: (group: string, read: boolean) => void; error: Error | null } {
  const cache = useQueryClient()
  const key = change(d.id).queryKey
  const digest = d.rehearsal?.digest ?? ''
  const go = useMutation({
    mutationFn: (m: { group: string; read: boolean }) => look(d.id, { ...m, digest }),
    onMutate: async ({ group, read }) => {
      await cache.cancelQueries({ queryKey: key })
      cache.setQueryData(key, (was: ChangeDetail | undefined) => was && marked(was, me, group, read))
    },
    onSettled: () => cache.invalidateQueries({ queryKey: key }),
  })
  return {
    read: new Set(d.review.looked?.find((l) => l.account === me)?.groups),
    mark: (group, read) => digest && go.mutate({ group, read }),
    error: go.error,
  }
}

function marked(d: ChangeDetail, me: string, group: string, read: boolean): ChangeDetail {
  const mine = (d.review.looked?.find((l) => l.account === me)?.groups ?? []).filter((g) => g !== group)
  const others = (d.review.looked ?? []).filter((l) => l.account !== me)
  return { ...d, review: { ...d.review, looked: [...others, { account: me, groups: read ? [...mine, group] : mine }] } }
}
