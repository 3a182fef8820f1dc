import { api, type FactorView, need, type PersonView, words } from '../../api/client'
import { fullTime } from '../../lib/format'
import { Button } from '../../ui/Button'
import { useChange } from './useChange'

/** How a handset can be woken: whether notifications work, why not, when it was last heard from; and a test. */
export function PushLine({ person, factor }: { person: PersonView; factor: FactorView }) {
  const path = { source: person.source, login: person.login, id: factor.id }
  const test = useChange(async () =>
    need(await api.POST('/api/v1/people/{source}/{login}/factors/{id}/push-test', { params: { path } })),
  )
  const { push } = factor
  if (!push) return null
  const subscribed = push.state === 'ready' || push.state === 'untested'
  const tested = test.data as { accepted: boolean; said: string } | undefined
  return (
    <div data-testid="push" className="mt-1">
      <p className={push.state === 'ready' ? 'text-flood' : 'text-warn'}>
        {push.state === 'ready' ? '●' : '▲'} {push.said.charAt(0).toUpperCase() + push.said.slice(1)}
      </p>
      <p className="text-ink-faint text-xs">
        {push.heard_us != null ? `Last heard from ${fullTime(push.heard_us)}` : 'Never heard from'}
        {push.service && ` · through ${push.service}`}
        {push.shown_us != null && ` · notification last shown ${fullTime(push.shown_us)}`}
      </p>
      {push.result && push.sent_us != null && (
        <p className="text-ink-faint text-xs">
          Last message {fullTime(push.sent_us)}: {push.result}
        </p>
      )}
      {subscribed && (
        <Button className="mt-1" disabled={test.isPending} onClick={() => test.mutate()}>
          Send a test notification
        </Button>
      )}
      {tested && (
        <p role="status" className={tested.accepted ? '' : 'text-ebb'}>
          {tested.accepted ? 'Sent' : 'Not sent'}: {tested.said}
        </p>
      )}
      {test.isError && (
        <p role="alert" className="text-ebb">
          {words(test.error)}
        </p>
      )}
    </div>
  )
}
