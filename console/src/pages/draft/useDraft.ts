import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { useNavigate } from 'react-router'
import { Refusal, type Account, type DraftChecked } from '../../api/client'
import { change as changeQuery, checked, draft, revise } from '../../api/queries'
import { read, unreadable } from './document'
import { useKept } from './useKept'

// Begun is what a draft begins from: a text, and the revision of a change that it is to follow.
export interface Begun {
  me: Account
  of: string // what it begins from, for which unsaved work is kept
  change: number // 0: a new one
  basis: number
  source: string
}

// useDraft holds the text of a change that is being written, in whatever view: what the server says
// of it, and how it is saved. What is not saved is kept in this browser, for this person and what they began from.
export function useDraft({ me, of, change, basis, source }: Begun) {
  const cache = useQueryClient()
  const go = useNavigate()
  const [kept, keep] = useKept(`${me.name} ${of}`)
  const [text, setText] = useState(kept?.text ?? source)
  const [on, setOn] = useState(kept?.basis ?? basis)
  const [asked, setAsked] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setAsked(text), 400)
    return () => clearTimeout(timer)
  }, [text])
  const check = useQuery(checked(asked))
  const doc = useMemo(() => read(text), [text])
  const save = useMutation({
    mutationFn: () => (change ? revise(change, on, text) : draft(text)),
    onSuccess: (made) => {
      keep(undefined)
      void cache.invalidateQueries({ queryKey: changeQuery(made.id).queryKey })
      void go(`/changes/${made.id}`)
    },
  })
  const overtaken = save.error instanceof Refusal && save.error.status === 412
  const newer = useQuery({ ...changeQuery(change), enabled: overtaken, staleTime: 0 })
  const type = (next: string) => {
    setText(next)
    keep(next === source ? undefined : { text: next, basis: on })
  }
  const problems: DraftChecked['problems'] = check.data?.problems ?? []
  return {
    text,
    type,
    asked, // the text as it was checked last
    check,
    problems,
    of: doc.errors.length === 0 ? (doc.toJS() as unknown) : undefined,
    unreadable: unreadable(doc, text),
    unsaved: kept !== undefined,
    save,
    newer: overtaken ? newer.data : undefined,
    overtaken,
    revision: on,
    change,
    untouched: change > 0 && text === source,
    throwAway: () => {
      setText(source)
      setOn(basis)
      keep(undefined)
    },
    takeOver: (revision: number) => {
      setOn(revision)
      keep({ text, basis: revision })
      save.reset()
    },
  }
}

export type Draft = ReturnType<typeof useDraft>
