import type { Account } from '../../api/client'
import { Accounts } from './Accounts'
import { OwnSignIns } from './OwnSignIns'
import { Requests } from './Requests'

export function PeoplePage({ me }: { me: Account }) {
  const admin = me.roles.includes('admin')
  return (
    <main>
      <div className="head">
        <h1>People</h1>
      </div>
      {me.must_change ? (
        <OwnSignIns me={me} />
      ) : (
        <div className="work">
          <div>
            {admin && <Requests me={me} />}
            <Accounts me={me} />
          </div>
          <aside>
            <OwnSignIns me={me} />
          </aside>
        </div>
      )}
    </main>
  )
}
