import { Alert, Input, Modal } from 'antd'
import { useState, type ReactNode } from 'react'

interface Props {
  title: string
  ok: string
  danger?: boolean
  pending: boolean
  error: Error | null
  onOk: (because: string) => void
  onCancel: () => void
  children: ReactNode // what will happen
}

// AskWhy asks once, says what will happen, and wants a reason.
export function AskWhy({ title, ok, danger, pending, error, onOk, onCancel, children }: Props) {
  const [because, setBecause] = useState('')
  return (
    <Modal open closable={false} title={title} okText={ok} okButtonProps={{ danger, disabled: !because.trim() }} confirmLoading={pending} onOk={() => onOk(because.trim())} onCancel={onCancel}>
      <p>{children}</p>
      <Input.TextArea aria-label="Why" placeholder="Why, for whoever reads the record later" rows={2} value={because} onChange={(e) => setBecause(e.target.value)} />
      {error && <Alert type="error" title={error.message} />}
    </Modal>
  )
}
