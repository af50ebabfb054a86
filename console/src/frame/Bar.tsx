import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, NavLink } from 'react-router'
import type { Account } from '../api/client'
import { signOut, underWay } from '../api/queries'
import { type Appearance, useAppearance } from '../ui/appearance'
import { useKeys, useKeysOn } from '../ui/keys'
import { SmallLadder } from '../ui/SmallLadder'
import { GoTo } from './GoTo'
import { Halt } from './Halt'
import { Keys } from './Keys'
import { Menu } from './Menu'

const sections = [
  ['/', 'Today'],
  ['/changes', 'Changes'],
  ['/hosts', 'Hosts'],
  ['/services', 'Services'],
  ['/record', 'Record'],
  ['/people', 'People'],
] as const

// Bar is the one line on top of every page.
export function Bar({ me }: { me: Account }) {
  const [open, setOpen] = useState<'go' | 'keys' | 'halt'>()
  const climbs = useQuery({ ...underWay(), enabled: !me.must_change })
  useKeys({ '/': () => setOpen('go'), '?': () => setOpen('keys') })
  const links = sections.map(([to, words]) => (
    <NavLink key={to} to={to} end={to === '/'}>
      {words}
    </NavLink>
  ))
  return (
    <header className="bar">
      <a className="skip" href="#work">
        To the work
      </a>
      <Link className="name" to="/" aria-label="Wide Ladder, to the start page">
        <svg viewBox="0 0 16 16" width={16} height={16} aria-hidden="true">
          <path d="M4 1v14M12 1v14M4 4h8M4 8h8M4 12h8" stroke="var(--spruce)" strokeWidth={1.6} fill="none" />
        </svg>
        <span>Wide Ladder</span>
      </Link>
      {!me.must_change && (
        <>
          <nav className="sections" aria-label="Sections">
            {links}
          </nav>
          <div className="folded">
            <Menu label="Sections">{links}</Menu>
          </div>
        </>
      )}
      <span className="rest" />
      {!me.must_change && (
        <>
          <button type="button" className="go-to" onClick={() => setOpen('go')}>
            Go to <kbd>/</kbd>
          </button>
          <div className="climbing" aria-label="What climbs now" role="group">
            {climbs.data?.slice(0, 5).map((c) => (
              <Link key={c.id} to={`/changes/${c.id}`} title={`Change ${c.id}: ${c.title}`} aria-label={`Change ${c.id}, ${c.title}: ${c.climb_state}`}>
                <SmallLadder of={c} />
              </Link>
            ))}
          </div>
          {me.roles.includes('operator') && (climbs.data?.length ?? 0) > 0 && (
            <button type="button" className="halt" onClick={() => setOpen('halt')}>
              Halt…
            </button>
          )}
        </>
      )}
      <Menu label={me.display} right>
        <span className="second">
          {me.name}, {me.roles.join(', ') || 'viewer'}
        </span>
        <Looks />
        {!me.must_change && <Link to="/people#own">Your sign-ins and tokens</Link>}
        <SignOut />
      </Menu>
      {open === 'go' && <GoTo onClose={() => setOpen(undefined)} />}
      {open === 'keys' && <Keys onClose={() => setOpen(undefined)} />}
      {open === 'halt' && <Halt climbs={climbs.data ?? []} onClose={() => setOpen(undefined)} />}
    </header>
  )
}

const looks: [Appearance, string][] = [
  ['system', 'as the system'],
  ['light', 'light'],
  ['dark', 'dark'],
]

function Looks() {
  const [appearance, choose] = useAppearance()
  const [keysOn, setKeysOn] = useKeysOn()
  return (
    <>
      <fieldset>
        <legend className="second">Colours</legend>
        {looks.map(([value, words]) => (
          <label key={value}>
            <input type="radio" name="appearance" checked={appearance === value} onChange={() => choose(value)} /> {words}
          </label>
        ))}
      </fieldset>
      <label>
        <input type="checkbox" checked={keysOn} onChange={(e) => setKeysOn(e.target.checked)} /> single keys act (<kbd>?</kbd> lists them)
      </label>
    </>
  )
}

function SignOut() {
  const cache = useQueryClient()
  const leave = async () => {
    await signOut().catch(() => undefined)
    cache.clear()
    location.assign('/')
  }
  return (
    <button type="button" className="plain-button" onClick={leave}>
      Sign out
    </button>
  )
}
