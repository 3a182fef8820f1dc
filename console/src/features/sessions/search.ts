/** What the list of sessions shows; it stands in the address, so that a view can be passed on. */
export type SessionsSearch = {
  state?: SessionState
  gateway?: string
  person?: string
  chart?: ChartSpan
  open?: number
}

export const STATES = ['open', 'ended', 'lost'] as const
export type SessionState = (typeof STATES)[number]

/** Periods of the chart, in seconds. */
export const CHART_SPANS = { '1 h': 3_600, '24 h': 86_400, '7 d': 604_800 } as const
export type ChartSpan = keyof typeof CHART_SPANS
export const DEFAULT_SPAN: ChartSpan = '24 h'

export function readSessions(search: Record<string, unknown>): SessionsSearch {
  const text = (value: unknown) => (typeof value === 'string' && value ? value : undefined)
  return {
    state: STATES.find((state) => state === search.state),
    gateway: text(search.gateway),
    person: text(search.person),
    chart: Object.keys(CHART_SPANS).find((span) => span === search.chart) as ChartSpan | undefined,
    open: Number.isInteger(search.open) ? Number(search.open) : undefined,
  }
}
