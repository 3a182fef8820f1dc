import { useQuery } from '@tanstack/react-query'
import { api, need } from '../../api/client'

/** Packets that got no reply, by sender and reason, the latest first. */
export function useKnocks() {
  return useQuery({ queryKey: ['knocks'], queryFn: async () => need(await api.GET('/api/v1/knocks')) })
}
