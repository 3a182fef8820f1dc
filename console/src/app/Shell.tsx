import { Link, Outlet, useLocation } from '@tanstack/react-router'
import { useEffect } from 'react'
import { useSession } from '../features/session/useSession'
import { ConfirmBanner } from '../features/site/ConfirmBanner'
import { ThemeSwitch } from '../ui/ThemeSwitch'
import { Account } from './Account'

const PAGES = [
  { to: '/logins', name: 'Logins' },
  { to: '/sessions', name: 'Sessions' },
  { to: '/chains', name: 'Chains' },
  { to: '/people', name: 'People' },
  { to: '/prove', name: 'Test' },
  { to: '/timing', name: 'Timing' },
  { to: '/site', name: 'Site' },
] as const

/** The frame of every page: where one is, and which site and revision is active. */
export function Shell() {
  const { session } = useSession()
  const status = session.data
  const path = useLocation({ select: (location) => location.pathname })
  const page = PAGES.find(({ to }) => path.startsWith(to))
  useEffect(() => {
    document.title = page ? `${page.name} – Bivector` : 'Bivector'
  }, [page])
  return (
    <div className="flex h-full flex-col">
      <header className="flex flex-wrap items-center gap-x-5 gap-y-1 border-rule border-b px-4 py-2">
        <Link to="/logins" className="flex items-center gap-2 font-semibold">
          <img src="/mark.svg" alt="" className="size-5" /> Bivector
        </Link>
        <nav aria-label="Main navigation" className="flex flex-wrap gap-1 max-sm:order-last max-sm:w-full">
          {PAGES.map(({ to, name }) => (
            <Link
              key={to}
              to={to}
              className="rounded px-2 py-0.5 text-ink-soft hover:text-ink"
              activeProps={{ className: 'bg-flood-wash !text-ink' }}
            >
              {name}
            </Link>
          ))}
        </nav>
        <span className="ml-auto flex items-center gap-4 text-ink-soft text-xs">
          {status?.site ? (
            <span className="max-sm:hidden">
              {status.site} · revision <span className="font-mono">{status.revision}</span>
            </span>
          ) : (
            <span>
              No configuration applied yet.{' '}
              <Link to="/site" className="underline">
                Open Site
              </Link>
            </span>
          )}
          <ThemeSwitch />
          {status && <Account operator={status.operator} role={status.role} version={status.version} />}
        </span>
      </header>
      {status?.confirm && <ConfirmBanner waiting={status.confirm} />}
      <main className="min-h-0 flex-1">
        <h1 className="sr-only">{page?.name ?? 'Bivector'}</h1>
        <Outlet />
      </main>
    </div>
  )
}
