import { Modal } from 'antd'
import { useKeysOn } from '../ui/keys'

const keys: [string, string][] = [
  ['/', 'go to a change, a host, a service or a person'],
  ['?', 'this list'],
  ['j, k', 'in a list: next, previous'],
  ['Enter', 'in a list: open'],
  ['n, p', 'in diffs: next, previous'],
  ['m', 'in diffs: mark as read'],
  ['s', 'in diffs: side by side, or one below the other'],
  ['c', 'in diffs: comment on the group'],
  ['arrows', 'on a ladder: from host to host'],
  ['Escape', 'close what is open'],
]

// Keys lists the keys, and lets people switch them off.
export function Keys({ onClose }: { onClose: () => void }) {
  const [on, set] = useKeysOn()
  return (
    <Modal open title="Keys" okText="Close" onOk={onClose} onCancel={onClose} closable={false} cancelButtonProps={{ style: { display: 'none' } }}>
      <dl className="facts">
        {keys.map(([key, does]) => (
          <div key={key} style={{ display: 'contents' }}>
            <dt>
              <kbd>{key}</kbd>
            </dt>
            <dd>{does}</dd>
          </div>
        ))}
      </dl>
      <label>
        <input type="checkbox" checked={on} onChange={(e) => set(e.target.checked)} /> Single keys act
      </label>
    </Modal>
  )
}
