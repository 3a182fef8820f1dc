import type { Outcome, TraceRow } from '../../api/client'

/** What the address of the page says: filters, and the trace that is open. */
export type LoginsSearch = { q?: string; outcome?: Outcome; gateway?: string; cause?: string; open?: string }

const OUTCOMES = ['accepted', 'refused', 'silent']

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
    open: text('open'),
  }
}

/** Whether a trace that just came belongs into the filtered list. The service filters the same way. */
export function fits(search: LoginsSearch, row: TraceRow): boolean {
  const q = search.q?.toLowerCase()
  return (
    (!search.outcome || row.outcome === search.outcome) &&
    (!search.gateway || row.gateway === search.gateway) &&
    (!search.cause || row.cause === search.cause) &&
    (!q || row.login.startsWith(q) || row.reference.toLowerCase() === q)
  )
}
