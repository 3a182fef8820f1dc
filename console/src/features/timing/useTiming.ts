import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api, need } from '../../api/client'

/** Values that are tried out, by setting. */
export type Values = Record<string, string>

/** The budget follows a slider this long after it moved. */
const SETTLED = 40

/** The budget of a chain under these values; the one before stays until the next one is there. */
export function useTiming(chain: string | undefined, via: string | undefined, values: Values) {
  const settled = useSettled(values, SETTLED)
  return useQuery({
    queryKey: ['timing', chain, via, settled],
    enabled: chain !== undefined,
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    retry: false,
    queryFn: async ({ signal }) =>
      need(
        await api.POST('/api/v1/timing/{chain}', {
          params: { path: { chain: chain ?? '' } },
          body: { via: via ?? null, set: settled, margin: null, text: null, rush: null },
          signal,
        }),
      ),
  })
}

/** The budgets of all chains, as the site in force and what was seen have them. */
export function useBudgets() {
  return useQuery({
    queryKey: ['timing'],
    refetchInterval: 30_000,
    queryFn: async () => need(await api.GET('/api/v1/timing')),
  })
}

/** A value once it has stayed the same for a while. */
export function useSettled<T>(value: T, after: number): T {
  const [settled, setSettled] = useState(value)
  const text = JSON.stringify(value)
  // biome-ignore lint/correctness/useExhaustiveDependencies: the same content is the same value
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), after)
    return () => window.clearTimeout(timer)
  }, [text, after])
  return settled
}
