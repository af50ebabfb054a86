import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Form, Input } from 'antd'
import { useState } from 'react'
import type { Account } from '../../api/client'
import { changePassword, endSignIn, session, signIns } from '../../api/queries'
import { Ago, Day } from '../../ui/Ago'
import { TokenForm } from './TokenForm'

interface Fields {
  old: string
  next: string
}

// OwnSignIns is where one is signed in, one's tokens, and the password.
export function OwnSignIns({ me }: { me: Account }) {
  const [making, setMaking] = useState(false)
  const cache = useQueryClient()
  const [form] = Form.useForm<Fields>()
  const list = useQuery(signIns())
  const again = () => cache.invalidateQueries({ queryKey: signIns().queryKey })
  const end = useMutation({ mutationFn: endSignIn, onSettled: again })
  const change = useMutation({
    mutationFn: (f: Fields) => changePassword(f.old, f.next),
    onSuccess: () => {
      form.resetFields()
      return Promise.all([again(), cache.invalidateQueries({ queryKey: session().queryKey })])
    },
  })
  const problem = list.error ?? end.error
  return (
    <>
      <div className="titled">
        <h2>Your sign-ins and tokens</h2>
        {!me.must_change && <Button size="small" onClick={() => setMaking(true)}>Make a token</Button>}
      </div>
      {making && <TokenForm me={me} onClose={() => setMaking(false)} />}
      {problem && <Alert type="error" title={problem.message} style={{ marginBottom: 12 }} />}
      <ul className="plain">
        {list.data?.map((s) => (
          <li key={s.id}>
            <span>
              {s.kind === 'token' ? 'Token' : 'Sign-in'} {s.label && `“${s.label}”`} {s.this && '(this one)'}
              <br />
              <span className="second">
                from {s.origin || 'an address not known'}, <Ago at={s.created_at} />
                {s.kind === 'token' && (
                  <>
                    , {s.scopes.join(', ') || 'reads'}, ends on <Day at={s.expires_at} />
                  </>
                )}
              </span>
            </span>
            {!s.this && (
              <Button size="small" onClick={() => end.mutate(s.id)}>
                End
              </Button>
            )}
          </li>
        ))}
      </ul>
      <h2>Your password</h2>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(f: Fields) => change.mutate(f)}>
        <Form.Item name="old" label="Old password" rules={[{ required: true, message: 'Type your present password.' }]}>
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        <Form.Item name="next" label="New password" extra="Several words that have nothing to do with each other. Your other sign-ins end." rules={[{ required: true, message: 'Type a new password.' }]}>
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        {change.error && <Alert type="error" title={change.error.message} style={{ marginBottom: 12 }} />}
        {change.isSuccess && <Alert type="success" title="Your password is changed." style={{ marginBottom: 12 }} />}
        <Button htmlType="submit" loading={change.isPending}>
          Change password
        </Button>
      </Form>
    </>
  )
}
