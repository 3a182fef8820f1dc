import { useNavigate, useSearch } from '@tanstack/react-router'
import { useEffect, useState } from 'react'
import type { SessionRow } from '../../api/client'
import { words } from '../../api/client'
import { downloadCsv } from '../../lib/csv'
import { dayOf, fullTime, isToday, lasted, size, timeOfDay } from '../../lib/format'
import { useWhenSeen } from '../../lib/useWhenSeen'
import { Button } from '../../ui/Button'
import { LineMark } from '../../ui/LineMark'
import { Select } from '../../ui/Select'
import { useSession } from '../session/useSession'
import { SessionChart } from './SessionChart'
import { SessionMark } from './SessionMark'
import { SessionPanel } from './SessionPanel'
import { CHART_SPANS, type ChartSpan, DEFAULT_SPAN, type SessionState, type SessionsSearch, STATES } from './search'
import { useSessions } from './useSessions'

/** Rows that come by scrolling alone. */
const READ_BY_ITSELF = 2_000

/** Who is connected, since when and with how much traffic; one of the sessions opens beside the list. */
export function SessionsPage() {
  const search = useSearch({ from: '/sessions' })
  const navigate = useNavigate({ from: '/sessions' })
  const { sessions, line, rows } = useSessions(search)
  const change = (part: Partial<SessionsSearch>) => navigate({ search: (old) => ({ ...old, ...part }), replace: true })
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = sessions
  const whenSeen = useWhenSeen(() => {
    if (hasNextPage && !isFetchingNextPage && rows.length < READ_BY_ITSELF) void fetchNextPage()
  })
  const filtered = Boolean(search.state || search.gateway || search.person)
  return (
    <div className="flex h-full">
      <section aria-label="Sessions" className={`flex min-w-0 flex-1 flex-col ${search.open ? 'max-lg:hidden' : ''}`}>
        <SessionChart span={search.chart ?? DEFAULT_SPAN} gateway={search.gateway} mark={<LineMark line={line} />} />
        <Filters search={search} rows={rows} change={change} />
        <div className="min-h-0 flex-1 overflow-y-auto">
          <SessionTable
            rows={rows}
            selected={search.open}
            open={(open) => change({ open })}
            compact={Boolean(search.open)}
          />
          {sessions.isSuccess && rows.length === 0 && <Empty filtered={filtered} />}
          {sessions.isError && <p className="p-6 text-ebb">{words(sessions.error)}</p>}
          {hasNextPage && (
            <p className="p-3 text-center" ref={whenSeen}>
              <Button onClick={() => fetchNextPage()} disabled={isFetchingNextPage}>
                Load older sessions
              </Button>
            </p>
          )}
        </div>
      </section>
      {search.open && <SessionPanel key={search.open} id={search.open} close={() => change({ open: undefined })} />}
    </div>
  )
}

function Filters({
  search,
  rows,
  change,
}: {
  search: SessionsSearch
  rows: SessionRow[]
  change: (part: Partial<SessionsSearch>) => void
}) {
  const { session } = useSession()
  const [typed, setTyped] = useState(search.person ?? '')
  useEffect(() => {
    const soon = setTimeout(() => {
      if ((search.person ?? '') !== typed.trim()) change({ person: typed.trim() || undefined })
    }, 250)
    return () => clearTimeout(soon)
  })
  return (
    <div className="flex flex-wrap items-center gap-2 border-rule border-y bg-sheet px-4 py-1.5 text-xs">
      <input
        type="search"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        placeholder="User, whole name or key"
        aria-label="User"
        className="w-52 rounded border border-rule bg-paper px-2.5 py-1 placeholder:text-ink-faint"
      />
      <Select
        label="State"
        value={search.state}
        options={[...STATES]}
        onChange={(state) => change({ state: state as SessionState | undefined })}
      />
      <Select
        label="Gateway"
        value={search.gateway}
        options={session.data?.gateways ?? []}
        onChange={(gateway) => change({ gateway })}
      />
      <Select
        label="Chart"
        value={search.chart ?? DEFAULT_SPAN}
        options={Object.keys(CHART_SPANS)}
        one
        onChange={(chart) => change({ chart: chart as ChartSpan | undefined })}
      />
      {(search.state || search.gateway || search.person) && (
        <Button
          onClick={() => {
            setTyped('')
            change({ state: undefined, gateway: undefined, person: undefined })
          }}
        >
          Clear filters
        </Button>
      )}
      <Button className="ml-auto" onClick={() => exportRows(rows)} disabled={rows.length === 0}>
        Export CSV
      </Button>
    </div>
  )
}

function SessionTable({
  rows,
  selected,
  open,
  compact,
}: {
  rows: SessionRow[]
  selected: number | undefined
  open: (id: number) => void
  compact: boolean
}) {
  const wide = compact ? 'hidden' : 'max-md:hidden'
  const head = 'sticky top-0 z-10 bg-paper px-2 py-1.5 font-normal'
  return (
    <table className="w-full border-separate border-spacing-0">
      <thead>
        <tr className="text-left text-ink-faint text-xs">
          <th className={`${head} pl-4`}>Began</th>
          <th className={head}>User</th>
          <th className={`${head} max-sm:hidden`}>Gateway</th>
          <th className={`${head} ${wide}`}>Address</th>
          <th className={`${head} text-right`}>Lasted</th>
          <th className={`${head} text-right ${wide}`}>From user</th>
          <th className={`${head} text-right ${wide}`}>To user</th>
          <th className={`${head} pr-4`}>State</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr
            key={row.id}
            tabIndex={0}
            aria-current={row.id === selected}
            data-testid="session"
            onClick={() => open(row.id)}
            onKeyDown={(event) => event.key === 'Enter' && open(row.id)}
            className="cursor-pointer hover:bg-flood-wash aria-[current=true]:bg-flood-wash [&>td]:border-rule-fine [&>td]:border-b [&>td]:px-2 [&>td]:py-[3px] [&:nth-child(5n)>td]:border-rule"
          >
            <td className="whitespace-nowrap !pl-4 font-mono text-ink-soft">
              {!isToday(row.began_us) && <span className="text-ink-faint">{dayOf(row.began_us)} </span>}
              {timeOfDay(row.began_us)}
            </td>
            <td className="max-w-52 truncate">{row.person?.split(':')[1] ?? (row.name || '?')}</td>
            <td className="whitespace-nowrap text-ink-soft max-sm:hidden">{row.gateway}</td>
            <td className={`whitespace-nowrap font-mono text-ink-soft ${wide}`}>{row.addresses.join(' ')}</td>
            <td className="whitespace-nowrap text-right font-mono text-ink-soft">{lasted(row)}</td>
            <td className={`whitespace-nowrap text-right font-mono text-ink-soft ${wide}`}>
              {size(row.traffic.bytes_in)}
            </td>
            <td className={`whitespace-nowrap text-right font-mono text-ink-soft ${wide}`}>
              {size(row.traffic.bytes_out)}
            </td>
            <td className="max-w-72 truncate !pr-4">
              <SessionMark row={row} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function Empty({ filtered }: { filtered: boolean }) {
  return (
    <p className="p-8 text-center text-ink-soft">
      {filtered
        ? 'No sessions match these filters.'
        : 'No sessions yet. They come from accounting reports: set `accounting` under `[doors.radius]`, and switch accounting on at the gateway.'}
    </p>
  )
}

function exportRows(rows: SessionRow[]) {
  const header = [
    'session',
    'began',
    'ended',
    'user',
    'gateway',
    'address',
    'from_user',
    'to_user',
    'grant',
    'factor',
    'login',
    'why',
  ]
  const line = (row: SessionRow) => [
    row.id,
    fullTime(row.began_us),
    row.ended_us ? fullTime(row.ended_us) : '',
    row.person ?? row.name,
    row.gateway,
    row.addresses.join(' '),
    row.traffic.bytes_in,
    row.traffic.bytes_out,
    row.grant,
    row.factor,
    row.reference,
    row.why,
  ]
  downloadCsv('sessions.csv', header, rows.map(line))
}
