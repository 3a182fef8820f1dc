import { createRootRoute, createRoute, createRouter, redirect } from '@tanstack/react-router'
import { LoginsPage } from '../features/logins/LoginsPage'
import { type LoginsSearch, readSearch } from '../features/logins/search'
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

function NoSuchPage() {
  return (
    <p className="p-6 text-ink-soft">
      There is no such page.{' '}
      <a className="underline" href="/logins">
        Logins
      </a>
    </p>
  )
}

export const router = createRouter({ routeTree: root.addChildren([home, loginsRoute]) })

declare module '@tanstack/react-router' {
  interface Register {
    router: typeof router
  }
}
