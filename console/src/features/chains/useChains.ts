import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef } from 'react'
import { api, need } from '../../api/client'
import { useEvents } from '../../api/useEvents'

/** Logins may come by the hundred a second; the counts follow this often. */
const COUNTS_EVERY = 2_000

/** All chains with the live state of their hops. */
export function useChains() {
  const queries = useQueryClient()
  const waiting = useRef<number>(undefined)
  const again = () => void queries.invalidateQueries({ queryKey: ['chains'] })
  const soon = () => {
    waiting.current ??= window.setTimeout(() => {
      waiting.current = undefined
      again()
    }, COUNTS_EVERY)
  }
  const line = useEvents({
    onTrace: soon,
    onServer: again,
    onSite: () => {
      again()
      void queries.invalidateQueries({ queryKey: ['session'] })
    },
    onMissed: again,
  })
  const chains = useQuery({ queryKey: ['chains'], queryFn: async () => need(await api.GET('/api/v1/chains')) })
  return { chains, line }
}
