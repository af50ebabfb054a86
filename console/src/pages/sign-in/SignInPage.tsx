import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Form, Input } from 'antd'
import { session, signIn, waysIn } from '../../api/queries'

interface Fields {
  name: string
  password: string
}

// here is the page that was asked for, without why a sign-in failed.
function here(): string {
  const query = new URLSearchParams(location.search)
  query.delete('sign-in')
  return location.pathname + (query.size ? `?${query}` : '') + location.hash
}

export function SignInPage() {
  const cache = useQueryClient()
  const ways = useQuery(waysIn(new URLSearchParams(location.search).get('sign-in'))).data
  const go = useMutation({
    mutationFn: (f: Fields) => signIn(f.name, f.password),
    onSuccess: (s) => {
      history.replaceState(null, '', here())
      cache.setQueryData(session().queryKey, s.account)
    },
  })
  return (
    <main className="sign-in">
      <h1>Wide Ladder</h1>
      <p className="second">Service configuration, changed stage by stage.</p>
      {ways?.why && <Alert type="error" title={`You are not signed in: ${ways.why}.`} style={{ marginBottom: 16 }} />}
      {ways?.directory && (
        <>
          <Button type="primary" block href={`/api/v1/session/directory?to=${encodeURIComponent(here())}`}>
            Sign in with {ways.directory}
          </Button>
          <p className="second">Or with a name and a password of this server:</p>
        </>
      )}
      <Form layout="vertical" requiredMark={false} onFinish={(f: Fields) => go.mutate(f)}>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Say who you are.' }]}>
          <Input autoFocus={!ways?.directory} autoComplete="username" />
        </Form.Item>
        <Form.Item name="password" label="Password" rules={[{ required: true, message: 'Type your password.' }]}>
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        {go.error && <Alert type="error" title={go.error.message} style={{ marginBottom: 16 }} />}
        <Button type={ways?.directory ? 'default' : 'primary'} htmlType="submit" loading={go.isPending}>
          Sign in
        </Button>
      </Form>
    </main>
  )
}
