import { useEffect, useState } from 'react'
import type { Outcome, TraceRow } from '../../api/client'
import { downloadCsv } from '../../lib/csv'
import { dayOf, timeOfDay } from '../../lib/format'
import { Button } from '../../ui/Button'
import { outcomeWord } from '../../ui/OutcomeMark'
import { Select } from '../../ui/Select'
import { useSession } from '../session/useSession'
import { CHART_SPANS, type ChartSpan, type LoginsSearch, ORIGINS, OUTCOMES } from './search'

type Props = { search: LoginsSearch; rows: TraceRow[]; change: (part: Partial<LoginsSearch>) => void }

/** Filters of the list; they stand in the address, so that a view can be passed on. */
export function Filters({ search, rows, change }: Props) {
  const { session } = useSession()
  const [typed, setTyped] = useState(search.q ?? '')
  useEffect(() => {
    const soon = setTimeout(() => {
      if ((search.q ?? '') !== typed.trim()) change({ q: typed.trim() || undefined })
    }, 250)
    return () => clearTimeout(soon)
  })
  const causes = [...new Set(rows.flatMap((row) => row.cause ?? []))].sort()
  const filtered = Boolean(
    search.q || search.outcome || search.gateway || search.cause || search.origin || search.until,
  )
  const clear = () => {
    setTyped('')
    change({
      q: undefined,
      outcome: undefined,
      gateway: undefined,
      cause: undefined,
      origin: undefined,
      until: undefined,
    })
  }
  return (
    <div className="flex flex-wrap items-center gap-2 border-rule border-y bg-sheet px-4 py-1.5 text-xs">
      <input
        type="search"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        placeholder="User or reference"
        aria-label="User or reference"
        className="w-44 rounded border border-rule bg-paper px-2.5 py-1 placeholder:text-ink-faint"
      />
      <Select
        label="Outcome"
        value={search.outcome}
        options={OUTCOMES}
        word={outcomeWord}
        onChange={(outcome) => change({ outcome: outcome as Outcome | undefined })}
      />
      <Select
        label="Gateway"
        value={search.gateway}
        options={session.data?.gateways ?? []}
        onChange={(gateway) => change({ gateway })}
      />
      <Select
        label="Cause"
        value={search.cause}
        options={search.cause && !causes.includes(search.cause as never) ? [search.cause, ...causes] : causes}
        onChange={(cause) => change({ cause })}
      />
      <Select label="Origin" value={search.origin} options={ORIGINS} onChange={(origin) => change({ origin })} />
      <label className="flex items-center gap-1.5 text-ink-soft">
        <input
          type="checkbox"
          checked={Boolean(search.rehearsed)}
          onChange={(event) => change({ rehearsed: event.target.checked || undefined })}
        />
        Include rehearsals
      </label>
      <label className="flex items-center gap-1.5 text-ink-faint">
        Before
        <input
          type="datetime-local"
          aria-label="Before"
          value={search.until ? localTime(search.until) : ''}
          onChange={(event) =>
            change({ until: event.target.value ? new Date(event.target.value).getTime() * 1_000 : undefined })
          }
          className="rounded border border-rule bg-paper px-1.5 py-0.5 text-ink"
        />
      </label>
      {filtered && <Button onClick={clear}>Clear filters</Button>}
      <Select
        label="Failure chart"
        value={search.chart}
        options={Object.keys(CHART_SPANS)}
        onChange={(chart) => change({ chart: chart as ChartSpan | undefined })}
      />
      <Button className="ml-auto" onClick={() => exportRows(rows)} disabled={rows.length === 0}>
        Export CSV
      </Button>
    </div>
  )
}

/** A moment as the field for it wants it: local, to the minute. */
function localTime(micros: number): string {
  const at = new Date(micros / 1_000)
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
}

function exportRows(rows: TraceRow[]) {
  const header = [
    'reference',
    'day',
    'time',
    'typed',
    'person',
    'gateway',
    'chain',
    'outcome',
    'cause',
    'grant',
    'took_us',
  ]
  const line = (row: TraceRow) => [
    row.reference,
    dayOf(row.began_us),
    timeOfDay(row.began_us),
    row.typed_name,
    row.person,
    row.gateway,
    row.chain,
    row.outcome,
    row.cause,
    row.grant,
    row.took_us,
  ]
  downloadCsv('logins.csv', header, rows.map(line))
}
