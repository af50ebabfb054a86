import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Form, Input } from 'antd'
import { session, signIn } from '../../api/queries'

interface Fields {
  name: string
  password: string
}

export function SignInPage() {
  const cache = useQueryClient()
  const go = useMutation({
    mutationFn: (f: Fields) => signIn(f.name, f.password),
    onSuccess: (s) => cache.setQueryData(session().queryKey, s.account),
  })
  return (
    <main className="sign-in">
      <h1>Wide Ladder</h1>
      <p className="second">Service configuration, changed stage by stage.</p>
      <Form layout="vertical" requiredMark={false} onFinish={(f: Fields) => go.mutate(f)}>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Say who you are.' }]}>
          <Input autoFocus autoComplete="username" />
        </Form.Item>
        <Form.Item name="password" label="Password" rules={[{ required: true, message: 'Type your password.' }]}>
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        {go.error && <Alert type="error" title={go.error.message} style={{ marginBottom: 16 }} />}
        <Button type="primary" htmlType="submit" loading={go.isPending}>
          Sign in
        </Button>
      </Form>
    </main>
  )
}
