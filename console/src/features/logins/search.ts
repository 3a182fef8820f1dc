import type { Outcome, TraceRow } from '../../api/client'

/** What the address of the page says: filters, and the trace that is open. */
export type LoginsSearch = {
  q?: string
  outcome?: Outcome
  gateway?: string
  cause?: string
  origin?: string
  /** Whether rehearsed logins are listed too. */
  rehearsed?: boolean
  /** Only those before this moment, in microseconds since 1970: the way to an old one among a million. */
  until?: number
  /** Whether failures are drawn over time, and how far back. */
  chart?: ChartSpan
  /** Whether dropped packets are listed instead. */
  knocks?: boolean
  open?: string
}

/** How far back a chart goes, in seconds. */
export const CHART_SPANS = { '6 h': 21_600, '24 h': 86_400, '7 days': 604_800 } as const
export type ChartSpan = keyof typeof CHART_SPANS

export const OUTCOMES = ['accepted', 'challenged', 'refused', 'silent']
export const ORIGINS = ['gateway', 'rehearsal', 'page']

export function readSearch(search: Record<string, unknown>): LoginsSearch {
  const text = (key: string) => {
    const value = search[key]
    return typeof value === 'string' && value ? value : typeof value === 'number' ? String(value) : undefined
  }
  const outcome = text('outcome')
  return {
    q: text('q'),
    outcome: outcome && OUTCOMES.includes(outcome) ? (outcome as Outcome) : undefined,
    gateway: text('gateway'),
    cause: text('cause'),
    origin: ORIGINS.find((origin) => origin === search.origin),
    rehearsed: search.rehearsed === true || undefined,
    until: Number.isInteger(search.until) ? Number(search.until) : undefined,
    chart: (Object.keys(CHART_SPANS) as ChartSpan[]).find((span) => span === search.chart),
    knocks: search.knocks === true || undefined,
    open: text('open'),
  }
}

/** Whether a filter leaves logins out. An open trace or chart is none. */
export function isFiltered(search: LoginsSearch) {
  const { open: _open, chart: _chart, rehearsed: _rehearsed, knocks: _knocks, ...filters } = search
  return Object.values(filters).some(Boolean)
}

/** Whether a trace that just came belongs into the filtered list. The service filters the same way. */
export function fits(search: LoginsSearch, row: TraceRow): boolean {
  const q = search.q?.toLowerCase()
  return (
    (!search.outcome || row.outcome === search.outcome) &&
    (!search.gateway || row.gateway === search.gateway) &&
    (!search.cause || row.cause === search.cause) &&
    (search.origin ? row.origin === search.origin : search.rehearsed || row.origin !== 'rehearsal') &&
    (!search.until || row.began_us < search.until) &&
    (!q || row.login.startsWith(q) || row.reference.toLowerCase() === q)
  )
}
