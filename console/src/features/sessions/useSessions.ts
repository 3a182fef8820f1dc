import { useInfiniteQuery, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef } from 'react'
import { api, need } from '../../api/client'
import { useEvents } from '../../api/useEvents'
import { CHART_SPANS, type ChartSpan, type SessionsSearch } from './search'

const PAGE = 200
/** Gateways report often: what is shown is fetched again this often at most, in milliseconds. */
const AFTER = 1_000
/** Columns of the chart. */
const COLUMNS = 120

/** The filtered list, newest first, kept up by the line of events. */
export function useSessions({ open: _open, chart: _chart, ...filter }: SessionsSearch) {
  const queries = useQueryClient()
  const soon = useRef<number | undefined>(undefined)
  useEffect(() => () => window.clearTimeout(soon.current), [])
  const refresh = () => {
    soon.current ??= window.setTimeout(() => {
      soon.current = undefined
      void queries.invalidateQueries({ queryKey: ['sessions'] })
    }, AFTER)
  }
  const sessions = useInfiniteQuery({
    queryKey: ['sessions', 'list', filter],
    initialPageParam: undefined as number | undefined,
    queryFn: async ({ pageParam }) =>
      need(await api.GET('/api/v1/sessions', { params: { query: { ...filter, before: pageParam, limit: PAGE } } })),
    getNextPageParam: (page) => page.next ?? undefined,
  })
  const line = useEvents({ onSession: refresh, onMissed: refresh })
  return { sessions, line, rows: sessions.data?.pages.flatMap((page) => page.sessions) ?? [] }
}

/** Open sessions over time. */
export function useSessionChart(span: ChartSpan, gateway: string | undefined) {
  const last_s = CHART_SPANS[span]
  return useQuery({
    queryKey: ['sessions', 'chart', span, gateway],
    refetchInterval: 30_000,
    queryFn: async () =>
      need(
        await api.GET('/api/v1/sessions/chart', {
          params: { query: { last_s, span_s: Math.max(1, Math.floor(last_s / COLUMNS)), gateway } },
        }),
      ),
  })
}
