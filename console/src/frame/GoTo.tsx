import { useQuery } from '@tanstack/react-query'
import { Modal } from 'antd'
import { useState, type KeyboardEvent } from 'react'
import { useNavigate } from 'react-router'
import { found } from '../api/queries'

// GoTo is the one jump: a part of a change's title or its number, a host, a service or a person.
export function GoTo({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const go = useNavigate()
  const query = useQuery(found(text.trim()))
  const all = query.data ?? []
  const chosen = Math.min(at, Math.max(0, all.length - 1))
  const open = (to: string) => {
    onClose()
    void go(to)
  }
  const press = (e: KeyboardEvent) => {
    const target = all[chosen]
    if (e.key === 'ArrowDown') setAt(Math.min(chosen + 1, all.length - 1))
    else if (e.key === 'ArrowUp') setAt(Math.max(chosen - 1, 0))
    else if (e.key === 'Enter' && target) open(target.to)
    else return
    e.preventDefault()
  }
  return (
    <Modal open footer={null} closable={false} title="Go to" onCancel={onClose} destroyOnHidden>
      <input
        className="go-field"
        role="combobox"
        aria-expanded={all.length > 0}
        aria-controls="found"
        aria-activedescendant={all.length > 0 ? `found-${chosen}` : undefined}
        aria-label="A change, a host, a service or a person"
        placeholder="A change, a host, a service or a person"
        autoFocus
        value={text}
        onChange={(e) => {
          setText(e.target.value)
          setAt(0)
        }}
        onKeyDown={press}
      />
      <ul id="found" role="listbox" aria-label="Found" className="found">
        {all.map((f, i) => (
          <li key={f.to} id={`found-${i}`} role="option" aria-selected={i === chosen} onClick={() => open(f.to)}>
            <span className="second">{f.kind}</span> <span className="wrap">{f.words}</span>
          </li>
        ))}
      </ul>
      {text.trim() !== '' && query.isSuccess && all.length === 0 && <p className="second">Nothing has “{text.trim()}” in its name.</p>}
      {text.trim() === '' && <p className="second">Type a part of a name or title, or the number of a change.</p>}
    </Modal>
  )
}
