import { useNavigate, useSearch } from '@tanstack/react-router'
import { type TraceRow, words } from '../../api/client'
import { useWhenSeen } from '../../lib/useWhenSeen'
import { Button } from '../../ui/Button'
import { FailureChart } from './FailureChart'
import { Filters } from './Filters'
import { KnockLine, Knocks } from './Knocks'
import { LoginTable } from './LoginTable'
import { isFiltered, type LoginsSearch } from './search'
import { TideStrip } from './TideStrip'
import { TracePanel } from './TracePanel'
import { useTraces } from './useTraces'
import { Waiting } from './Waiting'

/** Rows that come by scrolling alone; further back one goes by time, or by the button. */
const READ_BY_ITSELF = 2_000

/** Logins as they come; one of them opens beside the list. */
export function LoginsPage() {
  const search = useSearch({ from: '/logins' })
  const navigate = useNavigate({ from: '/logins' })
  const { traces, line, rows, arrived } = useTraces(search)
  const change = (part: Partial<LoginsSearch>) => navigate({ search: (old) => ({ ...old, ...part }), replace: true })
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = traces
  const whenSeen = useWhenSeen(() => {
    if (hasNextPage && !isFetchingNextPage && rows.length < READ_BY_ITSELF) void fetchNextPage()
  })
  const open = (row?: TraceRow) => change({ open: row?.reference })
  return (
    <div className="flex h-full">
      <section aria-label="Logins" className={`flex min-w-0 flex-1 flex-col ${search.open ? 'max-lg:hidden' : ''}`}>
        {search.chart ? (
          <FailureChart span={search.chart} line={line} choose={(cause, gateway) => change({ cause, gateway })} />
        ) : (
          <TideStrip rows={rows} line={line} />
        )}
        <Waiting />
        <KnockLine shown={search.knocks === true} show={(knocks) => change({ knocks: knocks || undefined })} />
        {!search.knocks && <Filters search={search} rows={rows} change={change} />}
        <div className="min-h-0 flex-1 overflow-y-auto">
          {search.knocks ? (
            <Knocks />
          ) : (
            <>
              <LoginTable
                rows={rows}
                arrived={arrived}
                selected={search.open}
                open={open}
                compact={Boolean(search.open)}
              />
              {traces.isSuccess && rows.length === 0 && (
                <Empty
                  filtered={isFiltered(search)}
                  clear={() => navigate({ search: ({ open, chart }) => ({ open, chart }), replace: true })}
                />
              )}
              {traces.isError && <p className="p-6 text-ebb">{words(traces.error)}</p>}
              {traces.hasNextPage && (
                <p className="p-3 text-center" ref={whenSeen}>
                  <Button onClick={() => traces.fetchNextPage()} disabled={traces.isFetchingNextPage}>
                    Load older logins
                  </Button>
                </p>
              )}
            </>
          )}
        </div>
      </section>
      {search.open && <TracePanel key={search.open} reference={search.open} close={() => open()} />}
    </div>
  )
}

function Empty({ filtered, clear }: { filtered: boolean; clear: () => void }) {
  return (
    <div className="p-8 text-center text-ink-soft">
      {filtered ? (
        <p>
          No logins match these filters.{' '}
          <Button className="ml-2" onClick={clear}>
            Clear filters
          </Button>
        </p>
      ) : (
        <>
          <p>No logins yet. Send a test login:</p>
          <code className="mt-2 inline-block rounded bg-rule-fine px-2 py-1 font-mono">
            bivector login PERSON --via GATEWAY
          </code>
        </>
      )}
    </div>
  )
}
