import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Modal } from 'antd'
import { useState } from 'react'
import type { Account, Person } from '../../api/client'
import { endSignIns, keepOut, people, requests } from '../../api/queries'
import { Ago, counted } from '../../ui/Ago'
import { Waiting } from '../../ui/States'
import { Table } from '../../ui/Table'
import { PersonForm } from './PersonForm'

const state = (p: Person) => (p.disabled ? 'kept out' : p.must_change ? 'has to change the password' : p.directory ? 'signs in with the directory' : 'may sign in')

type Deed = 'keep-out' | 'let-in' | 'end'

const words: Record<Deed, string> = { 'keep-out': 'Keep out', 'let-in': 'Let in again', end: 'End sign-ins' }

function carryOut(p: Person, deed: Deed): Promise<unknown> {
  switch (deed) {
    case 'keep-out':
      return keepOut(p.name, true)
    case 'let-in':
      return keepOut(p.name, false)
    case 'end':
      return endSignIns(p.name)
  }
}

// Accounts are all people and programs that may sign in.
export function Accounts({ me }: { me: Account }) {
  const cache = useQueryClient()
  const list = useQuery(people())
  const [asked, setAsked] = useState<{ person: Person; deed: Deed }>()
  const [edited, setEdited] = useState<{ person?: Person }>()
  const [waits, setWaits] = useState<string>()
  const admin = me.roles.includes('admin')
  const go = useMutation({
    mutationFn: (a: { person: Person; deed: Deed }) => carryOut(a.person, a.deed),
    onSettled: () => {
      setAsked(undefined)
      return Promise.all([cache.invalidateQueries({ queryKey: people().queryKey }), cache.invalidateQueries({ queryKey: requests(true).queryKey })])
    },
  })
  const problem = list.error ?? go.error
  return (
    <section>
      <div className="titled">
        <h2>Accounts</h2>
        {admin && <Button size="small" onClick={() => setEdited({})}>New account</Button>}
      </div>
      {waits && <Alert type="info" title={waits} style={{ marginBottom: 12 }} />}
      {problem && <Alert type="error" title={problem.message} style={{ marginBottom: 12 }} />}
      {list.isPending && <Waiting what="accounts" />}
      <Table heads={['Account', 'Name', 'Roles', 'State', 'Signed in', ...(admin ? ['What to do'] : [])]}>
        {list.data?.map((p) => (
          <tr key={p.name}>
            <td>{p.name}</td>
            <td className="wrap">{p.display}</td>
            <td>{p.roles.join(', ') || 'viewer'}</td>
            <td>{state(p)}</td>
            <td>{p.signed_in_at ? <Ago at={p.signed_in_at} /> : 'nowhere'}</td>
            {admin && (
              <td>
                <span className="deeds">
                  <Button size="small" onClick={() => setEdited({ person: p })}>Change</Button>
                  {p.sign_ins > 0 && <Button size="small" onClick={() => setAsked({ person: p, deed: 'end' })}>{words.end}</Button>}
                  <Button size="small" onClick={() => setAsked({ person: p, deed: p.disabled ? 'let-in' : 'keep-out' })}>{words[p.disabled ? 'let-in' : 'keep-out']}</Button>
                </span>
              </td>
            )}
          </tr>
        ))}
      </Table>
      {edited && (
        <PersonForm
          key={edited.person?.name}
          person={edited.person}
          onClose={(said) => {
            setEdited(undefined)
            setWaits(said)
          }}
        />
      )}
      <Modal open={asked !== undefined} closable={false} title={asked && `${words[asked.deed]}: ${asked.person.display}?`} okText={asked && words[asked.deed]} onOk={() => asked && go.mutate(asked)} onCancel={() => setAsked(undefined)} confirmLoading={go.isPending}>
        {asked && asked.deed !== 'let-in' && <p>{counted(asked.person.sign_ins, 'sign-in')} of theirs {asked.person.sign_ins === 1 ? 'ends' : 'end'} at once. What they have started goes on.</p>}
        {asked?.deed === 'let-in' && <p>Where this is an admin, a second admin has to agree.</p>}
      </Modal>
    </section>
  )
}
