import { type FormEvent, useCallback, useEffect, useState } from 'react'
import { type Device, enrol, guessLabel } from './device'
import { NewAppForm } from './NewAppForm'
import { Big, Field, Part, Wrong } from './parts'
import { call, type Factor, type NewApp, type Own, Refused, type Schemas, words } from './protocol'
import { type Message, t } from './texts'

type Props = { hasDevice: boolean; enrolled: (device: Device) => void; back: () => void }

/** The page that people sign in to themselves: their devices, new ones, lost ones. */
export function OwnPage({ hasDevice, enrolled, back }: Props) {
  const [own, setOwn] = useState<Own | null>()
  const load = useCallback(async () => {
    try {
      setOwn(await call<Own>('GET', '/own'))
    } catch (error) {
      if (error instanceof Refused) setOwn(null)
    }
  }, [])
  useEffect(() => {
    load()
  }, [load])
  if (own === undefined) return null
  return (
    <div className="space-y-5">
      {own ? <Devices own={own} reload={load} hasDevice={hasDevice} enrolled={enrolled} /> : <SignIn done={load} />}
      <Part title="">
        <Big onClick={back}>{t('Back')}</Big>
        {own && (
          <Big className="mt-3" onClick={() => call('DELETE', '/own/session').then(() => setOwn(null))}>
            {t('Sign out')}
          </Big>
        )}
      </Part>
    </div>
  )
}

type Asked = { prompt: string | null; state: string }

function SignIn({ done }: { done: () => void }) {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [asked, setAsked] = useState<Asked>()
  const [wrong, setWrong] = useState('')
  const [busy, setBusy] = useState(false)
  const send = async (event: FormEvent) => {
    event.preventDefault()
    setBusy(true)
    setWrong('')
    try {
      const body = { name, password, state: asked?.state }
      const answer = await call<Schemas['SignedIn']>('POST', '/own/session', body)
      setPassword('')
      if (answer.done) done()
      else setAsked({ prompt: answer.prompt ?? null, state: answer.state ?? '' })
    } catch (error) {
      setWrong(words(error))
      setAsked(undefined)
    }
    setBusy(false)
  }
  return (
    <form onSubmit={send} className="space-y-4">
      <h1 className="font-semibold text-3xl">{t('Your devices')}</h1>
      <Wrong>{wrong}</Wrong>
      {asked ? (
        <Field
          name={asked.prompt ?? t('Answer')}
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          autoComplete="one-time-code"
          autoFocus
        />
      ) : (
        <>
          <Field
            name={t('User name')}
            value={name}
            onChange={(event) => setName(event.target.value)}
            autoComplete="username"
            autoCapitalize="none"
          />
          <Field
            name={t('Password')}
            type="password"
            value={password}
            onChange={(event) => setPassword(event.target.value)}
            autoComplete="current-password"
          />
        </>
      )}
      <Big type="submit" look="good" disabled={busy || !name}>
        {busy ? t('Signing in…') : asked ? t('Continue') : t('Sign in')}
      </Big>
    </form>
  )
}

const KINDS: Record<string, Message> = {
  handset: 'Phone (approvals)',
  key: 'Security key',
  totp: 'Authenticator app',
  hotp: 'token',
  recovery: 'Recovery codes',
  temporary: 'Temporary code',
}

function kindName(kind: string): string {
  const known = KINDS[kind]
  return known ? t(known) : kind
}

function Devices({ own, reload, hasDevice, enrolled }: { own: Own; reload: () => void } & Omit<Props, 'back'>) {
  const [app, setApp] = useState<NewApp>()
  const [wrong, setWrong] = useState('')
  const attempt = (run: () => Promise<void>) => run().catch((error) => setWrong(words(error)))
  const thisPhone = () =>
    attempt(async () => {
      const made = await call<Schemas['Made']>('POST', '/own/invitation')
      enrolled(await enrol(made.code, guessLabel()))
    })
  return (
    <>
      <header>
        <h1 className="font-semibold text-3xl">{own.name}</h1>
        <p className="text-ink-soft">
          {own.site} · <span className="font-mono">{own.login}</span>
        </p>
      </header>
      <Wrong>{wrong}</Wrong>
      <Part title={t('Your devices')}>
        {own.factors.map((factor) => (
          <OwnDevice key={factor.id} factor={factor} reload={reload} />
        ))}
        {own.factors.length === 0 && (
          <p className="text-ink-soft">{t('No devices yet. Add one to be able to sign in.')}</p>
        )}
      </Part>
      <Part title={t('Add a device')}>
        {app ? (
          <NewAppForm
            app={app}
            send={(body) => call('POST', '/own/apps/code', body)}
            done={() => {
              setApp(undefined)
              reload()
            }}
          />
        ) : (
          <div className="space-y-3">
            {!hasDevice && (
              <Big look="good" onClick={thisPhone}>
                {t('This phone (approve sign-ins)')}
              </Big>
            )}
            <Big onClick={() => attempt(async () => setApp(await call<NewApp>('POST', '/own/apps')))}>
              {t('Authenticator app (codes)')}
            </Big>
          </div>
        )}
      </Part>
    </>
  )
}

function OwnDevice({ factor, reload }: { factor: Factor; reload: () => void }) {
  const [open, setOpen] = useState(false)
  const [label, setLabel] = useState(factor.label)
  const [wrong, setWrong] = useState('')
  const run = (method: string, body?: unknown) =>
    call(method, `/own/factors/${factor.id}`, body).then(
      () => {
        setOpen(false)
        reload()
      },
      (error) => setWrong(words(error)),
    )
  return (
    <div data-testid="own-factor" className="border-rule-fine border-b py-2">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="flex min-h-12 w-full items-center justify-between text-left"
      >
        <span>
          <strong>{factor.label}</strong> <span className="text-ink-soft">{kindName(factor.kind)}</span>
        </span>
        <span className={factor.state === 'ready' ? 'text-flood' : 'text-warn'}>
          {factor.state === 'ready' ? `● ${t('Ready')}` : `▲ ${t('Awaiting confirmation')}`}
        </span>
      </button>
      {open && (
        <div className="space-y-3 py-2">
          <Wrong>{wrong}</Wrong>
          <Field
            name={t('Name of the device')}
            value={label}
            maxLength={40}
            onChange={(event) => setLabel(event.target.value)}
          />
          <Big disabled={!label.trim() || label === factor.label} onClick={() => run('PUT', { label })}>
            {t('Rename')}
          </Big>
          <Big look="bad" onClick={() => run('DELETE')}>
            {t('Remove (lost or replaced)')}
          </Big>
        </div>
      )}
    </div>
  )
}
