import { type FormEvent, useCallback, useEffect, useState } from 'react'
import { type Device, enrol, guessLabel } from './device'
import { NewAppForm } from './NewAppForm'
import { Big, Field, Part, Wrong } from './parts'
import { call, type Invitation, type NewApp, words } from './protocol'

type Props = { done: (device: Device) => void; signIn?: () => void }

/** A phone that is nobody's yet: with an invitation it becomes somebody's. */
export function Enrol({ done, signIn }: Props) {
  // What stands behind # is never sent over the network by itself.
  const [code, setCode] = useState(() => decodeURIComponent(window.location.hash.slice(1)))
  const [invitation, setInvitation] = useState<Invitation>()
  const [label, setLabel] = useState(guessLabel)
  const [app, setApp] = useState<NewApp>()
  const [finished, setFinished] = useState(false)
  const [wrong, setWrong] = useState('')
  const [busy, setBusy] = useState(false)
  const attempt = useCallback(async (run: () => Promise<void>) => {
    setBusy(true)
    setWrong('')
    await run().catch((error) => setWrong(words(error)))
    setBusy(false)
  }, [])
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
        Your authenticator app is your second factor from now on. You may close this page.
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
  return (
    <form onSubmit={begin} className="space-y-4">
      {invitation ? (
        <Greeting invitation={invitation} />
      ) : (
        <h1 className="font-semibold text-3xl">Set this phone up</h1>
      )}
      <Wrong>{wrong}</Wrong>
      {invitation ? (
        <>
          <Field
            name="what this phone is called"
            value={label}
            maxLength={40}
            onChange={(event) => setLabel(event.target.value)}
          />
          <p className="text-ink-soft">
            A key is made in this browser and never leaves it. It signs your answers when somebody logs in as you.
          </p>
          <Big type="submit" look="good" disabled={busy || !label.trim()}>
            Set this phone up
          </Big>
        </>
      ) : (
        <>
          <Field
            name="invitation"
            value={code}
            onChange={(event) => setCode(event.target.value)}
            placeholder="7K3M-Q9TR-2XPA"
            autoComplete="off"
            autoCapitalize="characters"
            spellCheck={false}
            hint="Scan the code that you were shown, open the link that you were sent, or type the invitation."
          />
          <Big type="submit" look="good" disabled={busy || code.trim().length < 8}>
            Open the invitation
          </Big>
          {signIn && (
            <Part title="no invitation?">
              <Big onClick={signIn}>Sign in with your password</Big>
            </Part>
          )}
        </>
      )}
    </form>
  )
}

function Greeting({ invitation }: { invitation: Invitation }) {
  const what = invitation.factor === 'totp' ? 'an authenticator app' : 'this phone'
  return (
    <>
      <h1 className="font-semibold text-3xl">{invitation.name}</h1>
      <p className="text-lg">
        {invitation.site} invites you to use {what} when you log in.
      </p>
    </>
  )
}
