import { type ReactNode, useState } from 'react'
import { api, type FactorView, need, type PersonView, words } from '../../api/client'
import { fullTime } from '../../lib/format'
import { useEscape } from '../../lib/useEscape'
import { Button } from '../../ui/Button'
import { useSession } from '../session/useSession'
import { Enrolment, Waiting } from './Enrolment'
import { PushLine } from './PushLine'
import { RecentLogins } from './RecentLogins'
import { useChange } from './useChange'

/** A person: factors with state, drift and last use, wrong codes, and what an operator can do about them. */
export function PersonPanel({ person, close }: { person: PersonView; close: () => void }) {
  useEscape(close)
  const reached = [person.mail, person.phone].filter(Boolean).join(' · ')
  return (
    <aside
      aria-label={person.login}
      data-testid="person-panel"
      className="flex w-[440px] shrink-0 flex-col overflow-y-auto border-rule border-l bg-sheet max-lg:w-full"
    >
      <div className="flex items-center gap-3 border-rule border-b px-4 py-2">
        <h2 className="font-semibold">{person.name}</h2>
        <span className="font-mono text-ink-soft">
          {person.source}:{person.login}
        </span>
        <Button onClick={close} aria-label="Close" className="ml-auto">
          ✕
        </Button>
      </div>
      <dl className="grid grid-cols-[6rem_1fr] gap-x-2 border-rule border-b px-4 py-2">
        <Fact name="Password">
          {person.has_password
            ? 'Stored here (hashed)'
            : person.source === 'roster'
              ? 'Not set'
              : `Checked by ${person.source}`}
          {person.keeps && `; also stored as ${person.keeps} for CHAP or MS-CHAPv2`}
        </Fact>
        <Fact name="Groups">{person.groups.join(', ') || 'none in the records'}</Fact>
        <Fact name="Sends codes to">{reached || 'no address or number in the records'}</Fact>
        <Fact name="Language">{person.language || 'that of the gateway'}</Fact>
      </dl>
      {(person.lock || person.passwords) && <Lock person={person} />}
      {person.stop && <Stop person={person} />}
      <Waiting person={person} />
      <Enrolment person={person} />
      <h3 className="px-4 pt-2 text-ink-faint text-xs">Factors</h3>
      {person.factors.map((factor) => (
        <Factor key={factor.id} person={person} factor={factor} />
      ))}
      {person.factors.length === 0 && <p className="px-4 py-2 text-ink-soft">No factors. Invite the user to enrol.</p>}
      <RecentLogins login={person.login} />
      <Suspension person={person} />
    </aside>
  )
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-ink-faint">{name}</dt>
      <dd>{children}</dd>
    </>
  )
}

function Lock({ person }: { person: PersonView }) {
  const lock = person.lock
  const release = useChange(async () =>
    need(
      await api.POST('/api/v1/people/{source}/{login}/release', {
        params: { path: { source: person.source, login: person.login } },
      }),
    ),
  )
  const guesses = person.passwords
  const stopped = lock?.locked_until_us || guesses?.until_us
  return (
    <section
      data-testid="lock"
      className={`border-l-2 px-4 py-2 ${stopped ? 'border-ebb bg-ebb-wash' : 'border-warn'}`}
    >
      {lock && (
        <p>
          {lock.locked_until_us ? <strong>✕ codes locked until {fullTime(lock.locked_until_us)}: </strong> : '▲ '}
          {lock.wrong} of {lock.after} wrong codes in a row behind a right password, the last through {lock.gateway} at{' '}
          {fullTime(lock.last_us)}.
        </p>
      )}
      {guesses && (
        <p data-testid="guesses">
          {guesses.until_us ? <strong>✕ passwords not checked until {fullTime(guesses.until_us)}: </strong> : '▲ '}
          {guesses.wrong} wrong passwords in a row, the last through {guesses.gateway} at {fullTime(guesses.last_us)}.
          After {guesses.after}, passwords are not checked for a while, except from a trusted device or after an
          approval on the person’s own handset.
        </p>
      )}
      <Confirmed
        name="Unlock"
        asks={`Unlock ${person.login}? This resets the counts of wrong codes and passwords. First make sure you know who typed them.`}
        change={release}
      />
    </section>
  )
}

function Stop({ person }: { person: PersonView }) {
  const release = useChange(async () =>
    need(
      await api.POST('/api/v1/people/{source}/{login}/release', {
        params: { path: { source: person.source, login: person.login } },
      }),
    ),
  )
  const stop = person.stop
  if (!stop) return null
  return (
    <section data-testid="stop" className="border-ebb border-l-2 bg-ebb-wash px-4 py-2">
      <p>
        <strong>✕ Approvals stopped:</strong> {person.name} reported a login through {stop.gateway}
        {stop.from && ` from ${stop.from}`} at {fullTime(stop.at_us)} (
        <a className="underline" href={`/logins?open=${stop.reference}`}>
          {stop.reference}
        </a>
        ) as not their own. Someone else knows the password. Approvals are stopped until {fullTime(stop.until_us)}.
      </p>
      <Confirmed
        name="Resume approvals"
        asks={`Resume approvals for ${person.login}? Change the user's password first.`}
        change={release}
      />
    </section>
  )
}

function Suspension({ person }: { person: PersonView }) {
  const path = { source: person.source, login: person.login }
  const change = useChange(async () =>
    need(
      await api.PUT('/api/v1/people/{source}/{login}/suspension', {
        params: { path },
        body: { suspended: !person.disabled },
      }),
    ),
  )
  return (
    <div className="px-4 py-3">
      <Confirmed
        name={person.disabled ? 'Unblock' : 'Suspend'}
        asks={
          person.disabled
            ? `Unblock ${person.login}?`
            : `Suspend ${person.login}? All logins are rejected immediately, whatever ${person.source} says. You can undo this.`
        }
        change={change}
      />
    </div>
  )
}

function Factor({ person, factor }: { person: PersonView; factor: FactorView }) {
  const path = { source: person.source, login: person.login, id: factor.id }
  const reset = useChange(async () =>
    need(await api.POST('/api/v1/people/{source}/{login}/factors/{id}/resync', { params: { path }, body: {} })),
  )
  const remove = useChange(async () =>
    need(await api.DELETE('/api/v1/people/{source}/{login}/factors/{id}', { params: { path } })),
  )
  const moves = factor.kind === 'totp' || factor.kind === 'hotp'
  return (
    <section data-testid="factor" className="border-rule-fine border-b px-4 py-2">
      <p className="flex items-baseline gap-2">
        <strong>{factor.label}</strong>
        <span className="text-ink-soft">{factor.kind}</span>
        <FactorMark factor={factor} />
      </p>
      {factor.digits > 0 && <p className="text-ink-soft">{about(factor)}</p>}
      <p className="text-ink-faint text-xs">
        number {factor.id} · added {fullTime(factor.created_us)} ·{' '}
        {factor.last_used_us != null ? `last used ${fullTime(factor.last_used_us)}` : 'Never used'}
      </p>
      {factor.kind === 'handset' && factor.state === 'ready' && <PushLine person={person} factor={factor} />}
      <div className="mt-1 flex flex-wrap gap-2">
        {moves && (
          <Confirmed
            name="Reset clock"
            asks={`Reset “${factor.label}”? Clears the learned clock drift. Counters are kept, so used codes stay invalid.`}
            change={reset}
          />
        )}
        <Confirmed
          name="Remove"
          asks={`Remove “${factor.label}” of ${person.login}? It stops working at once. You can undo this in the list of changes.`}
          change={remove}
        />
      </div>
    </section>
  )
}

/** How a factor is. A handset is ready once its notifications work. */
function FactorMark({ factor }: { factor: FactorView }) {
  const silent = factor.push != null && factor.push.state !== 'ready'
  if (factor.state === 'ready' && silent) return <span className="ml-auto text-warn">▲ No notifications</span>
  if (factor.state === 'ready') return <span className="ml-auto text-flood">● Ready</span>
  const what = factor.state === 'waiting' ? 'Awaiting confirmation' : factor.state.replace('-', ' ')
  return <span className="ml-auto text-ebb">✕ {what}</span>
}

function about(factor: FactorView): string {
  const parts = [`${factor.digits} digits${factor.period ? ` every ${factor.period} s` : ''}`]
  if (factor.drift_seconds != null) {
    const seconds = Math.abs(factor.drift_seconds)
    parts.push(seconds === 0 ? 'Clock accurate' : `clock ${seconds} s ${factor.drift_seconds < 0 ? 'late' : 'early'}`)
  }
  if (factor.counter != null) parts.push(`Next counter: ${factor.counter}`)
  if (factor.left != null) parts.push(`${factor.left} left`)
  if (factor.until_us != null) parts.push(`until ${fullTime(factor.until_us)}`)
  if (factor.has_pin) parts.push('PIN required')
  if (factor.reason) parts.push(`issued by ${factor.operator}: ${factor.reason}`)
  return parts.join(' · ')
}

type ConfirmedProps = { name: string; asks: string; change: ReturnType<typeof useChange> }

/** A button that says what it will do before it does it. */
export function Confirmed({ name, asks, change }: ConfirmedProps) {
  const { session } = useSession()
  const [asking, setAsking] = useState(false)
  const role = session.data?.role
  if (role === 'view') return null
  if (!asking) return <Button onClick={() => setAsking(true)}>{name}</Button>
  return (
    <div role="alertdialog" aria-label={name} className="mt-1 w-full border-ebb border-l-2 bg-paper px-3 py-1.5">
      <p>{asks}</p>
      {change.isError && <p className="text-ebb">{words(change.error)}</p>}
      <p className="mt-1 flex gap-2">
        <Button onClick={() => change.mutate()} disabled={change.isPending} className="!border-ebb !text-ebb">
          {name}
        </Button>
        <Button onClick={() => setAsking(false)}>Cancel</Button>
      </p>
    </div>
  )
}
