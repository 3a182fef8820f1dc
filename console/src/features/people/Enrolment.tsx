import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, lazy, Suspense, useState } from 'react'
import { api, type Invitation, need, type PersonView, words } from '../../api/client'
import { fullTime } from '../../lib/format'
import { Button } from '../../ui/Button'
import { useChains } from '../chains/useChains'
import { useSession } from '../session/useSession'

const InvitationCode = lazy(() =>
  import('./InvitationCode').then(({ InvitationCode }) => ({ default: InvitationCode })),
)

/** The newest invitation, and a new one: to a handset or an app, handed over on screen or sent. */
export function Enrolment({ person }: { person: PersonView }) {
  const { session } = useSession()
  const queries = useQueryClient()
  const couriers = useCouriers()
  const [open, setOpen] = useState(false)
  const [factor, setFactor] = useState<'approval' | 'totp'>('approval')
  const [sendBy, setSendBy] = useState('')
  const invite = useMutation({
    mutationFn: async (): Promise<Invitation> =>
      need(
        await api.POST('/api/v1/people/{source}/{login}/invitation', {
          params: { path: { source: person.source, login: person.login } },
          body: { factor, send_by: sendBy || undefined },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['people'] }),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    invite.mutate()
  }
  const reached = [person.mail, person.phone].filter(Boolean).join(' or ')
  const field = 'rounded border border-rule bg-paper px-2 py-1'
  return (
    <section aria-label="enrolment" className="border-rule border-b px-4 py-2">
      {person.invitation && <p className="text-ink-soft">{about(person.invitation)}</p>}
      {session.data?.role !== 'view' && !open && (
        <Button className="mt-1" onClick={() => setOpen(true)}>
          {person.invitation && person.invitation.used_us == null ? 'Invite again' : 'Invite'}
        </Button>
      )}
      {open && !invite.data && (
        <form onSubmit={submit} className="mt-1 flex flex-wrap items-center gap-2">
          <label>
            Factor:{' '}
            <select
              value={factor}
              onChange={(event) => setFactor(event.target.value === 'totp' ? 'totp' : 'approval')}
              className={field}
            >
              <option value="approval">Phone (approvals)</option>
              <option value="totp">Authenticator app</option>
            </select>
          </label>
          <label>
            Deliver by:{' '}
            <select value={sendBy} onChange={(event) => setSendBy(event.target.value)} className={field}>
              <option value="">Show on this screen</option>
              {couriers.map((courier) => (
                <option key={courier} value={courier}>
                  {courier}
                </option>
              ))}
            </select>
          </label>
          <Button type="submit" disabled={invite.isPending} className="!border-flood !text-flood">
            Create invitation
          </Button>
          <Button onClick={() => setOpen(false)}>Cancel</Button>
          {sendBy && (
            <p className="w-full text-ink-soft text-xs">
              {reached ? `It will be sent to ${reached}.` : 'No address or phone number is known for this person.'}
            </p>
          )}
          {invite.isError && <p className="w-full text-ebb">{words(invite.error)}</p>}
        </form>
      )}
      {invite.data && (
        <Suspense>
          <InvitationCode
            made={invite.data}
            name={person.name || person.login}
            close={() => {
              invite.reset()
              setOpen(false)
            }}
          />
        </Suspense>
      )}
    </section>
  )
}

function about(invitation: NonNullable<PersonView['invitation']>): string {
  const what = invitation.factor === 'totp' ? 'an authenticator app' : 'a phone'
  const to = invitation.sent_to ? `, sent to ${invitation.sent_to}` : ''
  const made = `Invitation for ${what}, created by ${invitation.operator}${to}.`
  if (invitation.used_us != null) return `${made} Used ${fullTime(invitation.used_us)}.`
  return `${made} ${invitation.expired ? 'Expired' : 'Valid until'} ${fullTime(invitation.until_us)}.`
}

/** Couriers of the site, as far as chains use them. */
function useCouriers(): string[] {
  const { chains } = useChains()
  const hops = (chains.data ?? []).flatMap((chain) => chain.hops)
  const couriers = hops.filter(
    (hop) => hop.kind === 'factor' && hop.details.some((detail) => detail.startsWith('codes by')),
  )
  return [...new Set(couriers.map((hop) => hop.name))]
}

/** New handsets that wait: the operator types what the person reads out. It is compared here, not clicked away. */
export function Waiting({ person }: { person: PersonView }) {
  const waiting = person.factors.filter((factor) => factor.state === 'waiting' && factor.kind === 'handset')
  return waiting.map((factor) => <ConfirmForm key={factor.id} person={person} id={factor.id} label={factor.label} />)
}

function ConfirmForm({ person, id, label }: { person: PersonView; id: number; label: string }) {
  const queries = useQueryClient()
  const [reference, setReference] = useState('')
  const confirm = useMutation({
    mutationFn: async () =>
      need(
        await api.POST('/api/v1/people/{source}/{login}/factors/{id}/confirm', {
          params: { path: { source: person.source, login: person.login, id } },
          body: { reference },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['people'] }),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    confirm.mutate()
  }
  return (
    <form data-testid="confirm" onSubmit={submit} className="border-warn border-l-2 bg-warn-wash px-4 py-2">
      <label>
        New device “{label}”. Ask {person.name} to read out the reference on its screen, and enter it here:
        <span className="mt-1 flex gap-2">
          <input
            value={reference}
            onChange={(event) => setReference(event.target.value)}
            autoComplete="off"
            spellCheck={false}
            aria-label="Reference"
            className="w-32 rounded border border-rule bg-sheet px-2 py-1 font-mono uppercase"
          />
          <Button
            type="submit"
            disabled={reference.trim().length < 6 || confirm.isPending}
            className="!border-flood !text-flood"
          >
            Confirm device
          </Button>
        </span>
      </label>
      {confirm.isError && (
        <p role="alert" className="mt-1 text-ebb">
          {words(confirm.error)}
        </p>
      )}
    </form>
  )
}
