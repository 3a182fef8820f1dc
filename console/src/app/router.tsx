import { createRootRoute, createRoute, createRouter, lazyRouteComponent, redirect } from '@tanstack/react-router'
import type { PersonState } from '../api/client'
import { ChainsPage } from '../features/chains/ChainsPage'
import { LoginsPage } from '../features/logins/LoginsPage'
import { type LoginsSearch, readSearch } from '../features/logins/search'
import { PeoplePage } from '../features/people/PeoplePage'
import { STATES } from '../features/people/states'
import { type ProveSearch, readProve } from '../features/prove/search'
import { SessionsPage } from '../features/sessions/SessionsPage'
import { readSessions, type SessionsSearch } from '../features/sessions/search'
import { readTiming, type TimingSearch } from '../features/timing/search'
import { Shell } from './Shell'

const root = createRootRoute({ component: Shell, notFoundComponent: NoSuchPage })

const home = createRoute({
  getParentRoute: () => root,
  path: '/',
  beforeLoad: () => {
    throw redirect({ to: '/logins' })
  },
})

export const loginsRoute = createRoute({
  getParentRoute: () => root,
  path: '/logins',
  validateSearch: (search: Record<string, unknown>): LoginsSearch => readSearch(search),
  component: LoginsPage,
})

const chainsRoute = createRoute({
  getParentRoute: () => root,
  path: '/chains',
  validateSearch: (search: Record<string, unknown>): { open?: string } => ({
    open: typeof search.open === 'string' ? search.open : undefined,
  }),
  component: ChainsPage,
})

const peopleRoute = createRoute({
  getParentRoute: () => root,
  path: '/people',
  validateSearch: (search: Record<string, unknown>): { q?: string; state?: PersonState; open?: string } => ({
    q: typeof search.q === 'string' ? search.q : undefined,
    state: STATES.find((state) => state === search.state),
    open: typeof search.open === 'string' ? search.open : undefined,
  }),
  component: PeoplePage,
})

const sessionsRoute = createRoute({
  getParentRoute: () => root,
  path: '/sessions',
  validateSearch: (search: Record<string, unknown>): SessionsSearch => readSessions(search),
  component: SessionsPage,
})

// What proves is fetched when somebody goes there.
const proveRoute = createRoute({
  getParentRoute: () => root,
  path: '/prove',
  validateSearch: (search: Record<string, unknown>): ProveSearch => readProve(search),
  component: lazyRouteComponent(() => import('../features/prove/ProvePage'), 'ProvePage'),
})

const timingRoute = createRoute({
  getParentRoute: () => root,
  path: '/timing',
  validateSearch: (search: Record<string, unknown>): TimingSearch => readTiming(search),
  component: lazyRouteComponent(() => import('../features/timing/TimingPage'), 'TimingPage'),
})

const sheetRoute = createRoute({
  getParentRoute: () => root,
  path: '/timing/sheet',
  validateSearch: (search: Record<string, unknown>): { gateway?: string } => ({
    gateway: typeof search.gateway === 'string' ? search.gateway : undefined,
  }),
  component: lazyRouteComponent(() => import('../features/timing/SheetPage'), 'SheetPage'),
})

// The editor is the largest part of the console; it is fetched when somebody goes there.
const siteRoute = createRoute({
  getParentRoute: () => root,
  path: '/site',
  validateSearch: (search: Record<string, unknown>): { line?: number } => ({
    line: Number.isInteger(search.line) ? Number(search.line) : undefined,
  }),
  component: lazyRouteComponent(() => import('../features/site/SitePage'), 'SitePage'),
})

function NoSuchPage() {
  return (
    <p className="p-6 text-ink-soft">
      Page not found.{' '}
      <a className="underline" href="/logins">
        Logins
      </a>
    </p>
  )
}

export const router = createRouter({
  routeTree: root.addChildren([
    home,
    loginsRoute,
    sessionsRoute,
    chainsRoute,
    peopleRoute,
    proveRoute,
    timingRoute,
    sheetRoute,
    siteRoute,
  ]),
})

declare module '@tanstack/react-router' {
  interface Register {
    router: typeof router
  }
}
