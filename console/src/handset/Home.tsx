import { useCallback, useEffect, useState } from 'react'
import { Approval } from './Approval'
import { beginSession, type Device, forgetDevice } from './device'
import { History } from './History'
import { Notifications } from './Notifications'
import { Big, Field, Part, Wrong } from './parts'
import { call, type Me, Refused, words } from './protocol'
import { addKey, canUseKeys } from './securityKey'
import { type Message, speak, t } from './texts'
import { type Line, useWaiting } from './useWaiting'

const LINES: Record<Line, [string, Message]> = {
  live: ['●', 'Ready. Sign-in requests appear here.'],
  looking: ['○', 'Slow connection. Checking every few seconds.'],
  offline: ['✕', 'No connection. Trying again every few seconds.'],
}

/** The phone of somebody: what waits, the person's own codes, and the phone itself. */
export function Home({ device, forget, signIn }: { device: Device; forget: () => void; signIn?: () => void }) {
  const [me, setMe] = useState<Me>()
  const [said, setSaid] = useState('')
  const [turn, setTurn] = useState(0)
  const asked = window.location.pathname.match(/^\/handset\/request\/([0-9a-f]{16})$/)?.[1]
  const load = useCallback(async () => {
    const take = async () => {
      const found = await call<Me>('GET', '/me')
      setMe(found)
      speak(found.language)
      setTurn((turn) => turn + 1)
    }
    try {
      await take()
    } catch (error) {
      if (!(error instanceof Refused) || error.status !== 401) return
      await beginSession(device)
        .then(take)
        .catch(() => {})
    }
  }, [device])
  const { shown, offset, line, gone, look } = useWaiting(device, load)
  useEffect(() => {
    document.title = t(shown ? '(1) Sign-in request' : 'Sign-in approval')
    if (shown) setSaid('')
  }, [shown])
  if (gone) {
    return (
      <div className="space-y-4">
        <Wrong>{t('This phone is no longer registered. Ask your administrator for a new invitation.')}</Wrong>
        <Big onClick={() => forgetDevice().then(forget)}>{t('Set up again')}</Big>
      </div>
    )
  }
  if (shown) {
    const done = (text: string) => {
      setSaid(text)
      look().catch(() => {})
      load()
    }
    return <Approval key={shown} device={device} text={shown} offset={offset} done={done} />
  }
  return (
    <div className="space-y-5">
      <p
        aria-live="polite"
        role="status"
        className={said ? 'border-flood border-l-4 bg-flood-wash px-3 py-2 text-lg' : 'sr-only'}
      >
        {said}
      </p>
      <header>
        <h1 className="font-semibold text-3xl">{me?.name ?? '…'}</h1>
        <p className="text-ink-soft">
          {me?.site} · {me?.label}
        </p>
      </header>
      {me?.reference ? (
        <Unconfirmed reference={me.reference} />
      ) : (
        <p className={line === 'offline' ? 'text-ebb' : 'text-flood'}>
          {LINES[line][0]} {t(LINES[line][1])}
        </p>
      )}
      {me?.stopped_until_us && (
        <p className="border-warn border-l-4 bg-warn-wash px-3 py-2">
          {t('You reported a login as not yours. Sign-in requests are paused until {time}. Change your password.', {
            time: new Date(me.stopped_until_us / 1_000).toLocaleTimeString(undefined, { hourCycle: 'h23' }),
          })}
        </p>
      )}
      {asked && me && !me.reference && !said && line === 'live' && (
        <p className="border-warn border-l-4 px-3 py-2" data-testid="over">
          {t('This sign-in request no longer waits.')}
        </p>
      )}
      {me && !me.reference && <Notifications turn={turn} />}
      {me && me.codes.length > 0 && <Codes me={me} offset={offset} reload={load} />}
      {me && !me.reference && me.takes_keys && <Keys me={me} reload={load} />}
      {me && !me.reference && <History turn={turn} />}
      <ThisPhone device={device} forget={forget} signIn={signIn} />
    </div>
  )
}

function Unconfirmed({ reference }: { reference: string }) {
  return (
    <div className="space-y-2 border-warn border-l-4 bg-warn-wash px-3 py-3">
      <p>{t('One last step: read this code to your administrator. Your phone counts once they have entered it.')}</p>
      <p className="font-mono text-4xl tracking-wider" data-testid="reference">
        {reference}
      </p>
    </div>
  )
}

function Codes({ me, offset, reload }: { me: Me; offset: number; reload: () => void }) {
  const until = Math.min(...me.codes.map((code) => code.until_us)) / 1_000
  useEffect(() => {
    const timer = setTimeout(reload, Math.max(500, until - (Date.now() + offset) + 250))
    return () => clearTimeout(timer)
  }, [until, offset, reload])
  return (
    <Part title={t('Your codes')}>
      {me.codes.map((code) => (
        <p key={code.label} className="flex items-baseline justify-between">
          <span className="text-ink-soft">{code.label}</span>
          <span className="font-mono text-3xl tracking-wider" data-testid="own-code">
            {code.code.replace(/^(\d{3})(\d{3})$/, '$1 $2')}
          </span>
        </p>
      ))}
    </Part>
  )
}

function Keys({ me, reload }: { me: Me; reload: () => void }) {
  const [label, setLabel] = useState(() => t('security key'))
  const [wrong, setWrong] = useState('')
  const [busy, setBusy] = useState(false)
  const [open, setOpen] = useState(false)
  const add = async () => {
    setBusy(true)
    setWrong('')
    try {
      await addKey(label)
      setOpen(false)
      reload()
    } catch (error) {
      setWrong(words(error))
    }
    setBusy(false)
  }
  return (
    <Part title={t('Security keys')}>
      <ul data-testid="keys">
        {me.keys.map((key) => (
          <li key={key}>● {key}</li>
        ))}
      </ul>
      {me.keys.length === 0 && <p className="text-ink-soft">{t('No security keys.')}</p>}
      <Wrong>{wrong}</Wrong>
      {!canUseKeys() && (
        <p className="text-ink-soft">{t('This browser does not support security keys on this page.')}</p>
      )}
      {canUseKeys() && open && (
        <div className="mt-2 space-y-3">
          <Field
            name={t('Name of the key')}
            value={label}
            maxLength={40}
            onChange={(event) => setLabel(event.target.value)}
          />
          <Big look="good" disabled={busy || !label.trim()} onClick={add}>
            {t('Touch the key now')}
          </Big>
        </div>
      )}
      {canUseKeys() && !open && (
        <Big className="mt-2" onClick={() => setOpen(true)}>
          {t('Add a security key')}
        </Big>
      )}
    </Part>
  )
}

function ThisPhone({ device, forget, signIn }: { device: Device; forget: () => void; signIn?: () => void }) {
  const [sure, setSure] = useState(false)
  const [wrong, setWrong] = useState('')
  const remove = async () => {
    try {
      await call('DELETE', `/devices/${device.device}`)
    } catch (error) {
      if (!(error instanceof Refused)) return setWrong(words(error))
    }
    await forgetDevice()
    forget()
  }
  return (
    <Part title={t('This phone')}>
      <div className="space-y-3">
        <Wrong>{wrong}</Wrong>
        {signIn && <Big onClick={signIn}>{t('Manage my devices')}</Big>}
        {sure ? (
          <div className="space-y-3 border-ebb border-l-4 bg-ebb-wash px-3 py-3">
            <p>
              {t(
                'You will not be able to approve sign-ins with this phone until you enrol it again with a new invitation.',
              )}
            </p>
            <Big look="bad" onClick={remove}>
              {t('Remove this phone')}
            </Big>
            <Big onClick={() => setSure(false)}>{t('Cancel')}</Big>
          </div>
        ) : (
          <Big onClick={() => setSure(true)}>{t('Remove this phone…')}</Big>
        )}
      </div>
    </Part>
  )
}
