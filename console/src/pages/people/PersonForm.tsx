import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Checkbox, Form, Input, Modal } from 'antd'
import type { Person } from '../../api/client'
import { addPerson, changePerson, people, requests } from '../../api/queries'

const roles = [
  { value: 'author', label: 'author: drafts and rehearses changes' },
  { value: 'reviewer', label: 'reviewer: approves them' },
  { value: 'operator', label: 'operator: rolls them out, pauses and stops' },
  { value: 'admin', label: 'admin: hosts, definitions, secrets, people' },
]

interface Fields {
  name: string
  display: string
  roles: string[]
  password: string
}

// save asks for a new account, or for what is to become of one. It tells whether a
// second admin has to agree.
async function save(p: Person | undefined, f: Fields): Promise<boolean> {
  if (!p) return !!(await addPerson(f)).request
  const same = p.roles.length === f.roles.length && p.roles.every((r) => f.roles.includes(r))
  const asked = [same ? undefined : { roles: f.roles }, f.password ? { password: f.password } : undefined]
  let waits = false
  for (const change of asked) {
    if (change) waits = !!(await changePerson(p.name, change)).request || waits
  }
  return waits
}

// PersonForm makes an account, or changes the roles and the password of one.
export function PersonForm({ person, onClose }: { person?: Person; onClose: (waits?: string) => void }) {
  const cache = useQueryClient()
  const [form] = Form.useForm<Fields>()
  const go = useMutation({
    mutationFn: (f: Fields) => save(person, f),
    onSuccess: (waits, f) => {
      onClose(waits ? `Another admin has to agree before that is so for ${person?.display ?? f.display}.` : undefined)
      void cache.invalidateQueries({ queryKey: people().queryKey })
      void cache.invalidateQueries({ queryKey: requests(true).queryKey })
    },
  })
  return (
    <Modal open closable={false} title={person ? person.display : 'New account'} okText={person ? 'Save' : 'Make the account'} onOk={form.submit} onCancel={() => onClose()} confirmLoading={go.isPending}>
      <Form form={form} layout="vertical" requiredMark={false} initialValues={{ roles: person?.roles ?? [], password: '' }} onFinish={(f) => go.mutate(f)}>
        {!person && (
          <>
            <Form.Item name="name" label="Account" extra="Small letters, digits and hyphens; it cannot be changed." rules={[{ required: true, message: 'Give the account a name.' }]}>
              <Input autoFocus autoComplete="off" />
            </Form.Item>
            <Form.Item name="display" label="Name" rules={[{ required: true, message: 'Say whose account it is.' }]}>
              <Input autoComplete="off" />
            </Form.Item>
          </>
        )}
        {person?.directory && <p>{person.display} signs in with the directory, whose groups give the roles. A password given here ends that: they sign in with it instead, and keep their roles.</p>}
        <Form.Item name="roles" label="Roles" hidden={person?.directory} extra="Without a role one reads. A second admin has to agree to an admin.">
          <Checkbox.Group options={roles} className="column" />
        </Form.Item>
        <Form.Item name="password" label={person ? 'New password, where they have lost theirs' : 'First password'} extra="They have to change it when they sign in." rules={person ? [] : [{ required: true, message: 'Give a first password.' }]}>
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        {go.error && <Alert type="error" title={go.error.message} />}
      </Form>
    </Modal>
  )
}
