import type { Account } from '../../api/client'
import { Page } from '../../ui/Page'
import { Accounts } from './Accounts'
import { Calendar } from './Calendar'
import { OwnSignIns } from './OwnSignIns'
import { Policy, Receivers, Secrets } from './Policy'
import { Requests } from './Requests'

export function PeoplePage({ me }: { me: Account }) {
  const admin = me.roles.includes('admin')
  return (
    <Page title="People" help="console#people">
      {me.must_change ? (
        <OwnSignIns me={me} />
      ) : (
        <div className="work">
          <div>
            {admin && <Requests me={me} />}
            <Accounts me={me} />
            <Calendar />
            <Policy me={me} />
            <Secrets />
            <Receivers />
          </div>
          <aside id="own">
            <OwnSignIns me={me} />
          </aside>
        </div>
      )}
    </Page>
  )
}
