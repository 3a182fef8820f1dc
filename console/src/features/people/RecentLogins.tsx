import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { api, need } from '../../api/client'
import { dayOf, isToday, timeOfDay } from '../../lib/format'
import { OutcomeMark } from '../../ui/OutcomeMark'

/** How many are shown; the list of logins has the others. */
const SHOWN = 6

/** The newest logins of a person, each leading to its trace. */
export function RecentLogins({ login }: { login: string }) {
  const recent = useQuery({
    queryKey: ['traces', 'of', login],
    queryFn: async () => need(await api.GET('/api/v1/traces', { params: { query: { person: login, limit: SHOWN } } })),
  })
  return (
    <section data-testid="recent-logins" aria-label="recent logins" className="border-rule border-t px-4 py-2">
      <h3 className="text-ink-faint text-xs">Recent logins</h3>
      <ul>
        {recent.data?.map((row) => (
          <li key={row.reference} className="grid grid-cols-[auto_1fr_auto] gap-x-3">
            <span className="whitespace-nowrap font-mono text-ink-soft">
              {!isToday(row.began_us) && `${dayOf(row.began_us)} `}
              {timeOfDay(row.began_us)}
            </span>
            <span className="truncate">
              <OutcomeMark outcome={row.outcome} /> {row.cause ?? row.grant} via {row.gateway}
            </span>
            <Link to="/logins" search={{ open: row.reference }} className="font-mono underline">
              {row.reference}
            </Link>
          </li>
        ))}
      </ul>
      {recent.data?.length === 0 && <p className="text-ink-soft">No logins yet.</p>}
      {recent.isError && <p className="text-ebb">{recent.error.message}</p>}
      <Link to="/logins" search={{ q: login }} className="text-ink-soft text-xs underline">
        all logins
      </Link>
    </section>
  )
}
