import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Checkbox, Form, Input, Modal } from 'antd'
import { useNavigate } from 'react-router'
import { loadHosts } from '../../api/queries'

interface Fields {
  name: string
  address: string
  login: string
  sudo: boolean
  labels: string
}

// Enrol adds a host by its address; its key is compared on its own page, before anything is
// asked of it.
export function Enrol({ onClose }: { onClose: () => void }) {
  const cache = useQueryClient()
  const go = useNavigate()
  const [form] = Form.useForm<Fields>()
  const add = useMutation({
    mutationFn: (f: Fields) =>
      loadHosts([
        {
          id: 0,
          name: f.name.trim(),
          address: f.address.trim(),
          login: f.login.trim(),
          host_key: '',
          sudo: f.sudo,
          labels: Object.fromEntries(f.labels.split(/\s+/).filter(Boolean).map((l) => [l.split('=')[0] ?? '', l.slice(l.indexOf('=') + 1)])),
          traits: { os: '', family: '', os_version: '', kernel: '', cores: 0, memory: 0 },
        },
      ]),
    onSuccess: (_, f) => {
      onClose()
      void cache.invalidateQueries({ queryKey: ['hosts'] })
      void go(`/hosts/${encodeURIComponent(f.name.trim())}`)
    },
  })
  return (
    <Modal open closable={false} title="Add a host" okText="Add it, then compare its key" onOk={form.submit} onCancel={onClose} confirmLoading={add.isPending}>
      <Form form={form} layout="vertical" requiredMark={false} initialValues={{ login: 'root', sudo: false, labels: '' }} onFinish={(f) => add.mutate(f)}>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: 'Give the host a name.' }]}>
          <Input autoFocus autoComplete="off" />
        </Form.Item>
        <Form.Item name="address" label="Address" extra="A name or an IP address, with :port where it is not 22." rules={[{ required: true, message: 'Say where it is reached.' }]}>
          <Input className="mono" autoComplete="off" />
        </Form.Item>
        <Form.Item name="login" label="Login" rules={[{ required: true, message: 'Say as whom the server signs in.' }]}>
          <Input className="mono" autoComplete="off" />
        </Form.Item>
        <Form.Item name="sudo" valuePropName="checked">
          <Checkbox>It becomes root with sudo</Checkbox>
        </Form.Item>
        <Form.Item name="labels" label="Labels" extra="Such as role=bulletin site=delta" rules={[{ pattern: /^(\s*[^\s=]+=[^\s]*)*\s*$/, message: 'Want KEY=VALUE, with spaces between.' }]}>
          <Input className="mono" autoComplete="off" />
        </Form.Item>
        {add.error && <Alert type="error" title={add.error.message} />}
      </Form>
    </Modal>
  )
}
