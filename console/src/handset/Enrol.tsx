import { type FormEvent, useCallback, useEffect, useState } from 'react'
import { useAttempt } from './attempt'
import { type Device, enrol, guessLabel } from './device'
import { Install } from './Install'
import { NewAppForm } from './NewAppForm'
import { Big, Field, Part, Wrong } from './parts'
import { call, type Invitation, type NewApp } from './protocol'
import { permission } from './push'
import { t } from './texts'

type Props = { done: (device: Device) => void; signIn?: () => void }

/** A phone that is nobody's yet: with an invitation it becomes somebody's. */
export function Enrol({ done, signIn }: Props) {
  // What stands behind # is never sent over the network by itself.
  const [code, setCode] = useState(() => decodeURIComponent(window.location.hash.slice(1)))
  const [invitation, setInvitation] = useState<Invitation>()
  const [label, setLabel] = useState(guessLabel)
  const [app, setApp] = useState<NewApp>()
  const [finished, setFinished] = useState(false)
  const { attempt, busy, wrong } = useAttempt()
  const open = useCallback(
    (invited: string) =>
      attempt(async () => {
        const found = await call<Invitation>('POST', '/invitation', { invitation: invited })
        if (found.factor === 'totp') setApp(await call<NewApp>('POST', '/apps', { invitation: invited }))
        setInvitation(found)
        window.history.replaceState(null, '', '/handset')
      }),
    [attempt],
  )
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what the link held is opened by itself, once
  useEffect(() => {
    if (code) open(code)
  }, [])
  const begin = (event: FormEvent) => {
    event.preventDefault()
    if (!invitation) return open(code)
    attempt(async () => done(await enrol(code, label)))
  }
  if (finished) {
    return (
      <p className="text-lg" role="status">
        {t(
          'Your authenticator app is set up. You will be asked for its code when you sign in. You can close this page.',
        )}
      </p>
    )
  }
  if (invitation && app) {
    return (
      <div className="space-y-4">
        <Greeting invitation={invitation} />
        <NewAppForm
          app={app}
          send={(body) => call('POST', '/apps/code', { ...body, invitation: code })}
          done={() => setFinished(true)}
        />
      </div>
    )
  }
  const opened = window.location.pathname.startsWith('/handset/request/')
  return (
    <form onSubmit={begin} className="space-y-4">
      {opened && (
        <p className="border-warn border-l-4 px-3 py-2" data-testid="elsewhere">
          {t(
            'This link is for the phone that receives your sign-in requests. Nothing was approved. Open it on that phone.',
          )}
        </p>
      )}
      {invitation ? (
        <Greeting invitation={invitation} />
      ) : (
        <h1 className="font-semibold text-3xl">{t('Set up this phone')}</h1>
      )}
      <Wrong>{wrong}</Wrong>
      {invitation && permission() === 'needs-install' && <Install code={code} />}
      {invitation ? (
        <>
          <Field
            name={t('Name of this phone')}
            value={label}
            maxLength={40}
            onChange={(event) => setLabel(event.target.value)}
          />
          <p className="text-ink-soft">
            {t(
              'A private key is created in this browser and never leaves it. It confirms that your answers come from this phone.',
            )}
          </p>
          <Big type="submit" look="good" disabled={busy || !label.trim()}>
            {t('Set up this phone')}
          </Big>
        </>
      ) : (
        <>
          <Field
            name={t('Invitation code')}
            value={code}
            onChange={(event) => setCode(event.target.value)}
            placeholder="7K3M-Q9TR-2XPA"
            autoComplete="off"
            autoCapitalize="characters"
            spellCheck={false}
            hint={t('Scan the QR code, open the link you received, or enter the invitation code.')}
          />
          <Big type="submit" look="good" disabled={busy || code.trim().length < 8}>
            {t('Continue')}
          </Big>
          {signIn && (
            <Part title={t('No invitation?')}>
              <Big onClick={signIn}>{t('Sign in with your password')}</Big>
            </Part>
          )}
        </>
      )}
    </form>
  )
}

function Greeting({ invitation }: { invitation: Invitation }) {
  const { site } = invitation
  return (
    <>
      <h1 className="font-semibold text-3xl">{invitation.name}</h1>
      <p className="text-lg">
        {invitation.factor === 'totp'
          ? t('{site} invites you to use an authenticator app when you log in.', { site })
          : t('{site} invites you to use this phone when you log in.', { site })}
      </p>
    </>
  )
}
