import { useQuery } from '@tanstack/react-query'
import { api, type Failures, need, words } from '../../api/client'
import type { Line } from '../../api/useEvents'
import { dayOf, timeOfDay } from '../../lib/format'
import { LineMark } from '../../ui/LineMark'
import { CHART_SPANS, type ChartSpan } from './search'

const COLUMNS = 60
/** Rows that are drawn; the rest is a handful of single failures. */
const ROWS = 8
const ROW = 18

type Props = { span: ChartSpan; line: Line; choose: (cause: string, gateway: string) => void }

/** Failures over time: a row for each cause at each gateway, the most frequent first, on one time axis. */
export function FailureChart({ span, line, choose }: Props) {
  const last_s = CHART_SPANS[span]
  const failures = useQuery({
    queryKey: ['failures', span],
    refetchInterval: 30_000,
    queryFn: async () =>
      need(
        await api.GET('/api/v1/traces/failures', {
          params: { query: { last_s, span_s: Math.floor(last_s / COLUMNS) } },
        }),
      ),
  })
  const rows = failures.data ? gather(failures.data) : []
  const highest = Math.max(1, ...rows.flatMap((row) => row.counts))
  const total = rows.reduce((sum, row) => sum + row.total, 0)
  return (
    <figure data-testid="failures" className="px-4 pt-2 pb-1">
      <figcaption className="flex items-baseline gap-4 text-xs">
        <LineMark line={line} />
        <span className="text-ink-faint">
          Last {span}: {total} failures. Tallest bar: {highest} in {Math.round(last_s / COLUMNS / 60)} min.
        </span>
      </figcaption>
      {failures.isError && <p className="text-ebb">{words(failures.error)}</p>}
      {failures.data && rows.length === 0 && <p className="py-4 text-ink-soft">No failures in this period.</p>}
      <ul className="mt-1">
        {rows.slice(0, ROWS).map((row) => (
          <li key={`${row.cause} ${row.gateway}`}>
            <button
              type="button"
              onClick={() => choose(row.cause, row.gateway)}
              title={`Filter by ${row.cause} on ${row.gateway}`}
              className="grid w-full grid-cols-[11rem_6rem_1fr_3rem] items-end gap-x-2 text-left text-xs hover:bg-flood-wash max-sm:grid-cols-[8rem_4rem_1fr_2rem]"
            >
              <span className="truncate">{row.cause}</span>
              <span className="truncate text-ink-soft">{row.gateway}</span>
              <Bars counts={row.counts} highest={highest} said={`${row.total} times`} />
              <span className="text-right font-mono">{row.total}</span>
            </button>
          </li>
        ))}
      </ul>
      {rows.length > ROWS && <p className="text-ink-faint text-xs">{rows.length - ROWS} more rows not shown</p>}
      {failures.data && rows.length > 0 && (
        <div className="grid grid-cols-[11rem_6rem_1fr_3rem] gap-x-2 font-mono text-xs text-ink-faint max-sm:grid-cols-[8rem_4rem_1fr_2rem]">
          <span className="col-start-3 flex justify-between">
            <span>{moment(failures.data.since_us)}</span>
            <span>{moment(failures.data.since_us + (COLUMNS / 2) * failures.data.span_us)}</span>
            <span>{moment(failures.data.since_us + COLUMNS * failures.data.span_us)}</span>
          </span>
        </div>
      )}
    </figure>
  )
}

function Bars({ counts, highest, said }: { counts: number[]; highest: number; said: string }) {
  return (
    <svg
      viewBox={`0 0 ${COLUMNS} ${ROW}`}
      preserveAspectRatio="none"
      height={ROW}
      className="w-full"
      role="img"
      aria-label={said}
    >
      <line x1={0} x2={COLUMNS} y1={ROW - 0.5} y2={ROW - 0.5} className="stroke-rule" strokeWidth={0.5} />
      {counts.map((count, at) => {
        const height = count === 0 ? 0 : Math.max(2, (count / highest) * (ROW - 2))
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a column is its place in time
          <rect key={at} x={at + 0.1} width={0.8} y={ROW - height} height={height} className="fill-ebb" />
        )
      })}
    </svg>
  )
}

function moment(micros: number): string {
  return `${dayOf(micros)} ${timeOfDay(micros).slice(0, 5)}`
}

function gather(failures: Failures) {
  const rows = new Map<string, { cause: string; gateway: string; counts: number[]; total: number }>()
  for (const failed of failures.failed) {
    const key = `${failed.cause} ${failed.gateway}`
    const row = rows.get(key) ?? {
      cause: failed.cause,
      gateway: failed.gateway,
      counts: Array(COLUMNS).fill(0),
      total: 0,
    }
    if (failed.at < COLUMNS) row.counts[failed.at] += failed.count
    row.total += failed.count
    rows.set(key, row)
  }
  return [...rows.values()].sort((a, b) => b.total - a.total)
}
