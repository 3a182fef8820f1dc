import { useQuery } from '@tanstack/react-query'
import { api, need } from '../../api/client'
import { timeOfDay } from '../../lib/format'

const LOOK_EVERY_MS = 3_000

/** Logins that wait for somebody's approval. Nothing stands here while there are none. */
export function Waiting() {
  const waiting = useQuery({
    queryKey: ['waiting'],
    queryFn: async () => need(await api.GET('/api/v1/waiting')),
    refetchInterval: LOOK_EVERY_MS,
  })
  const all = waiting.data ?? []
  if (all.length === 0) return null
  return (
    <section
      aria-label="Waiting for approval"
      data-testid="waiting"
      className="max-h-40 overflow-y-auto border-rule border-b bg-slack-wash px-4 py-2 text-xs"
    >
      <h2 className="text-ink-soft">waiting for an approval: {all.length}</h2>
      <ul>
        {all.map((one) => (
          <li key={one.references[0]}>
            <span className="font-mono">{one.references.join(', ')}</span> {one.person} via {one.gateway}
            {one.from && ` from ${one.from}`}, asked {timeOfDay(one.asked_us)}, until {timeOfDay(one.until_us)}
            {!one.heard && ' · no handset listens'}
          </li>
        ))}
      </ul>
    </section>
  )
}
