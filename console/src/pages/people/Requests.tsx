import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import type { Account } from '../../api/client'
import { decide, people, requests } from '../../api/queries'
import { Ago } from '../../ui/Ago'

// Requests are what one admin has asked for and another has to agree to.
export function Requests({ me }: { me: Account }) {
  const cache = useQueryClient()
  const list = useQuery(requests(true))
  const go = useMutation({
    mutationFn: (d: { id: number; agreed: boolean }) => decide(d.id, d.agreed),
    onSettled: () => Promise.all([cache.invalidateQueries({ queryKey: requests(true).queryKey }), cache.invalidateQueries({ queryKey: people().queryKey })]),
  })
  const problem = list.error ?? go.error
  return (
    <section>
      <h2>A second admin has to agree</h2>
      {problem && <Alert type="error" title={problem.message} style={{ marginBottom: 12 }} />}
      {list.data?.length === 0 && <p className="second">Nothing waits for a second admin.</p>}
      {list.data?.map((r) => (
        <div className="group" key={r.id}>
          <header>
            <span className="wrap">{r.what}</span>
            <span className="second">
              asked by {r.asked_by} <Ago at={r.asked_at} />
            </span>
          </header>
          {r.text && <pre className="mono wrap" style={{ margin: 0, padding: '8px 12px', borderBottom: '1px solid var(--line)' }}>{r.text}</pre>}
          <div className="request">
            {r.asked_by === me.name ? (
              <span className="second">Another admin has to agree. You may take it back.</span>
            ) : (
              <Button type="primary" loading={go.isPending} onClick={() => go.mutate({ id: r.id, agreed: true })}>
                Agree
              </Button>
            )}
            <Button loading={go.isPending} onClick={() => go.mutate({ id: r.id, agreed: false })}>
              {r.asked_by === me.name ? 'Take back' : 'Refuse'}
            </Button>
          </div>
        </div>
      ))}
    </section>
  )
}
