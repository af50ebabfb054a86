import { useMutation } from '@tanstack/react-query'
import { Alert, Button, Form, Input } from 'antd'
import { useNavigate } from 'react-router'
import type { Blank, Form as Kept } from '../../api/client'
import { draftForm } from '../../api/queries'
import { Numbered } from '../../ui/Numbered'
import { bounds, outside } from './Typed'

function Field({ of: b, ...rest }: { of: Blank }) {
  switch (b.type) {
    case 'integer':
    case 'port':
      return <Input {...rest} type="number" step={1} {...bounds(b.range)} suffix={b.measure} style={{ width: 240 }} />
    case 'choice':
      return <Choose {...rest} of={b.choices ?? []} />
    case 'switch':
      return <Choose {...rest} of={['on', 'off']} />
  }
  return <Input {...rest} className="mono" suffix={b.measure} style={{ maxWidth: 480 }} />
}

function Choose({ of, ...rest }: { of: string[] }) {
  return (
    <select {...rest} className="go-field" style={{ maxWidth: 240 }}>
      <option value="" />
      {of.map((c) => (
        <option key={c}>{c}</option>
      ))}
    </select>
  )
}

// FillForm fills the blanks of a form in, and drafts what it comes to.
export function FillForm({ form }: { form: Kept }) {
  const go = useNavigate()
  const draft = useMutation({
    mutationFn: (fields: { [name: string]: unknown }) => draftForm(form.name, Object.fromEntries(Object.entries(fields).filter(([, v]) => v !== undefined && v !== '').map(([k, v]) => [k, String(v)]))),
    onSuccess: (made) => go(`/changes/${made.id}`),
  })
  return (
    <div className="work">
      <Form layout="vertical" requiredMark={false} initialValues={Object.fromEntries(form.blanks.map((b) => [b.name, b.default]))} onFinish={(f: { [name: string]: unknown }) => draft.mutate(f)}>
        {form.blanks.map((b) => (
          <Form.Item
            key={b.name}
            name={b.name}
            label={b.name}
            extra={[b.explanation, b.range && `from ${b.range.replace('..', ' to ')}`, b.default && `${b.default} where you say nothing`].filter(Boolean).join('; ')}
            rules={[
              ...(b.default ? [] : [{ required: true, message: 'It has no default: say what it is.' }]),
              { validator: (_, v: string) => (outside(String(v ?? ''), b.range) ? Promise.reject(new Error(outside(String(v), b.range))) : Promise.resolve()) },
            ]}
          >
            <Field of={b} />
          </Form.Item>
        ))}
        {draft.error && <Alert type="error" title={<span className="wrap">{draft.error.message}</span>} style={{ marginBottom: 12 }} />}
        <Button type="primary" htmlType="submit" loading={draft.isPending}>
          Draft it
        </Button>
        <p className="second">It is rehearsed before anything changes, and approved by somebody else.</p>
      </Form>
      <aside>
        <h2>The form</h2>
        <Numbered text={form.source} label="The form, as YAML" />
      </aside>
    </div>
  )
}
