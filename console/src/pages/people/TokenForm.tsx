import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Checkbox, Form, Input, InputNumber, Modal } from 'antd'
import type { Account } from '../../api/client'
import { makeToken, signIns } from '../../api/queries'

interface Fields {
  label: string
  scopes: string[]
  days: number
}

// TokenForm makes a token for a program, and shows it once.
export function TokenForm({ me, onClose }: { me: Account; onClose: () => void }) {
  const cache = useQueryClient()
  const [form] = Form.useForm<Fields>()
  const go = useMutation({ mutationFn: makeToken, onSuccess: () => cache.invalidateQueries({ queryKey: signIns().queryKey }) })
  if (go.data) {
    return (
      <Modal open closable={false} title="Your new token" okText="I have kept it" onOk={onClose} cancelButtonProps={{ style: { display: 'none' } }}>
        <p>It is shown this once. A program sends it as “Authorization: Bearer …”, or wladder reads it from WLADDER_TOKEN.</p>
        <p>
          <code className="wrap">{go.data.token}</code>
        </p>
      </Modal>
    )
  }
  return (
    <Modal open closable={false} title="Token for a program" okText="Make the token" onOk={form.submit} onCancel={onClose} confirmLoading={go.isPending}>
      <Form form={form} layout="vertical" requiredMark={false} initialValues={{ scopes: [], days: 30 }} onFinish={(f) => go.mutate(f)}>
        <Form.Item name="label" label="Label" rules={[{ required: true, message: 'Say what program it is for.' }]}>
          <Input autoFocus autoComplete="off" />
        </Form.Item>
        <Form.Item name="scopes" label="Roles" extra="Of yours; without one it reads alone. Approvals and accounts always want a person.">
          <Checkbox.Group options={me.roles} />
        </Form.Item>
        <Form.Item name="days" label="Days until it ends">
          <InputNumber min={1} max={365} />
        </Form.Item>
        {go.error && <Alert type="error" title={go.error.message} />}
      </Form>
    </Modal>
  )
}
