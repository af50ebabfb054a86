import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Input, Modal } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { Account, ChangeDetail } from '../../api/client'
import { act, change } from '../../api/queries'
import { choices, mayRevise, type Choice } from './actions'

// Actions is where the next action stands, with what it does to how many hosts.
export function Actions({ detail, me }: { detail: ChangeDetail; me: Account }) {
  const cache = useQueryClient()
  const [asked, setAsked] = useState<Choice>()
  const [because, setBecause] = useState('')
  const go = useMutation({
    mutationFn: (c: Choice) => act(detail.id, c.deed, detail.rehearsal?.digest ?? '', because),
    onSettled: () => {
      setAsked(undefined)
      setBecause('')
      return cache.invalidateQueries({ queryKey: change(detail.id).queryKey })
    },
  })
  const choose = (c: Choice) => (c.ask ? setAsked(c) : go.mutate(c))
  return (
    <div className="action">
      <div className="buttons">
        {choices(detail, me).map((c, i) => (
          <Button key={c.deed} type={i === 0 ? 'primary' : 'default'} danger={c.outlined} loading={go.isPending} onClick={() => choose(c)}>
            {c.words}
          </Button>
        ))}
        {mayRevise(detail, me) && <Link className="act quiet" to={`/draft?revise=${detail.id}`}>Revise it</Link>}
      </div>
      <span className="second">Next: {detail.next}</span>
      {go.error && <Alert type="error" title={go.error.message} />}
      <Modal open={asked !== undefined} closable={false} title={asked?.ask} okText={asked?.words} okButtonProps={{ danger: asked?.outlined, disabled: asked?.reason && !because.trim() }} onOk={() => asked && go.mutate(asked)} onCancel={() => setAsked(undefined)}>
        {asked?.reason && <Input.TextArea aria-label="Reason" placeholder={asked.placeholder ?? 'What has to be mended'} rows={3} value={because} onChange={(e) => setBecause(e.target.value)} />}
      </Modal>
    </div>
  )
}
