import { useQuery, useQueryClient } from '@tanstack/react-query'
import { api, need, type Run } from '../../api/client'
import { useEvents } from '../../api/useEvents'

/** Rehearsals and runs, kept up by the line of events. */
export function useRuns() {
  const queries = useQueryClient()
  const rehearsals = useQuery({
    queryKey: ['rehearsals'],
    queryFn: async () => need(await api.GET('/api/v1/rehearsals')),
  })
  const runs = useQuery({ queryKey: ['runs'], queryFn: async () => need(await api.GET('/api/v1/runs')) })
  const refresh = () => {
    for (const queryKey of [['rehearsals'], ['runs'], ['run']]) void queries.invalidateQueries({ queryKey })
  }
  useEvents({
    onRun: (progress) => {
      const known = queries.getQueryData<Run[]>(['runs'])?.some((run) => run.id === progress.id)
      if (!known || progress.state !== 'running') return refresh()
      queries.setQueryData<Run[]>(['runs'], (old) =>
        old?.map((run) => (run.id === progress.id ? { ...run, ...progress } : run)),
      )
      void queries.invalidateQueries({ queryKey: ['run', progress.id] })
    },
    onSite: refresh,
    onMissed: refresh,
  })
  return { rehearsals, runs }
}
