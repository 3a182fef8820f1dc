import { type InfiniteData, useInfiniteQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef } from 'react'
import { api, need, type TraceRow } from '../../api/client'
import { useEvents } from '../../api/useEvents'
import { fits, type LoginsSearch } from './search'

const PAGE = 200
/** Strangers decide how many packets are dropped: their list is fetched again this often at most, in milliseconds. */
const KNOCKS_AFTER = 2_000

/** The filtered list, newest first, kept up by the line of events. */
export function useTraces(search: LoginsSearch) {
  const { open: _open, chart: _chart, knocks: _knocks, until: until_us, rehearsed, ...plain } = search
  const filter = { ...plain, until_us, rehearsed: Boolean(rehearsed || search.origin) }
  const queryKey = ['traces', filter]
  const queries = useQueryClient()
  const arrived = useRef(new Set<number>())
  const knocks = useRef<number | undefined>(undefined)
  useEffect(() => () => window.clearTimeout(knocks.current), [])
  const traces = useInfiniteQuery({
    queryKey,
    initialPageParam: undefined as number | undefined,
    queryFn: async ({ pageParam }) =>
      need(await api.GET('/api/v1/traces', { params: { query: { ...filter, before: pageParam, limit: PAGE } } })),
    getNextPageParam: (page) => (page.length === PAGE ? page.at(-1)?.id : undefined),
  })
  const line = useEvents({
    onTrace: (row) => {
      queries.invalidateQueries({ queryKey: ['trace', row.reference] })
      if (fits(search, row)) arrived.current.add(row.id)
      queries.setQueryData<InfiniteData<TraceRow[]>>(queryKey, (old) => old && put(old, row, fits(search, row)))
    },
    onKnock: () => {
      knocks.current ??= window.setTimeout(() => {
        knocks.current = undefined
        void queries.invalidateQueries({ queryKey: ['knocks'] })
      }, KNOCKS_AFTER)
    },
    onMissed: () => queries.invalidateQueries({ queryKey: ['traces'] }),
  })
  return { traces, line, rows: traces.data?.pages.flat() ?? [], arrived: arrived.current }
}

/** A login that waited at a prompt is listed once: its end takes the place of what was listed of it. */
function put(old: InfiniteData<TraceRow[]>, row: TraceRow, fits: boolean): InfiniteData<TraceRow[]> {
  const other = (known: TraceRow) => known.reference !== row.reference
  const [first = [], ...rest] = old.pages.map((page) => (page.every(other) ? page : page.filter(other)))
  return { ...old, pages: [fits ? [row, ...first] : first, ...rest] }
}
