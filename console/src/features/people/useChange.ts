import { useMutation, useQueryClient } from '@tanstack/react-query'

/** A change to a person; the list shows what came of it. */
export function useChange(run: () => Promise<unknown>) {
  const queries = useQueryClient()
  return useMutation({ mutationFn: run, onSuccess: () => queries.invalidateQueries({ queryKey: ['people'] }) })
}
