import { useEffect, useRef, useState } from 'react'
import { answer, type Device } from './device'
import { keepAnswer } from './history'
import { Big, Wrong } from './parts'
import { type Decision, type Shown, words } from './protocol'
import { touchKey } from './securityKey'
import { currentLanguage, type Message, t } from './texts'

type Props = { device: Device; text: string; offset: number; done: (said: string) => void }

const clock = () =>
  new Intl.DateTimeFormat(currentLanguage(), {
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hourCycle: 'h23',
  })

const OUTCOMES: Record<string, Message> = {
  approved: 'Approved. Continue on your computer.',
  denied: 'Denied.',
  stopped: 'Reported. Sign-in requests are paused. Change your password now.',
}

/** One approval: who, from where, through which gateway, when; and the answer, signed over exactly this. */
export function Approval({ device, text, offset, done }: Props) {
  const shown = JSON.parse(text) as Shown
  const left = useSecondsLeft(shown.until_us, offset)
  const [busy, setBusy] = useState(false)
  const [wrong, setWrong] = useState('')
  const [sure, setSure] = useState(false)
  const heading = useRef<HTMLHeadingElement>(null)
  useEffect(() => heading.current?.focus(), [])
  const say = async (decision: Decision, number: number | null = null) => {
    setBusy(true)
    setWrong('')
    try {
      const key = shown.with_key && decision === 'approve' ? await touchKey(shown.id) : undefined
      const { outcome, said } = await answer(device, shown.id, text, decision, number, key)
      const wrongNumber = decision === 'approve' && outcome === 'denied'
      await keepAnswer({
        at: Date.now(),
        decision: wrongNumber ? 'deny' : decision,
        gateway: shown.gateway,
        from: shown.from,
      }).catch(() => {})
      const known = wrongNumber ? 'Wrong number: denied.' : OUTCOMES[outcome]
      done(known ? t(known) : said)
    } catch (error) {
      setWrong(words(error))
      setBusy(false)
    }
  }
  const whole = (shown.until_us - shown.at_us) / 1_000_000
  return (
    <div
      role="alertdialog"
      aria-labelledby="asks"
      aria-describedby="about"
      data-testid="approval"
      className="space-y-4"
    >
      <h1 id="asks" ref={heading} tabIndex={-1} className="font-semibold text-3xl outline-none">
        {t('Are you signing in?')}
      </h1>
      <div className="h-1.5 overflow-hidden rounded bg-rule" aria-hidden="true">
        <div className="h-full bg-flood" style={{ width: `${Math.min(100, (100 * left) / whole)}%` }} />
      </div>
      <dl id="about" className="grid grid-cols-[5.5rem_1fr] gap-y-2 text-lg">
        <Row name={t('User')}>
          {shown.name} <span className="font-mono text-ink-soft">{shown.login}</span>
        </Row>
        <Row name={t('Signing in to')}>
          {t('{site}, through {gateway}', { site: shown.site, gateway: shown.gateway })}
        </Row>
        <Row name={t('From')}>
          {shown.from ? (
            <span className="font-mono">{shown.from}</span>
          ) : (
            <span className="text-ink-soft">{t('Unknown location')}</span>
          )}
        </Row>
        <Row name={t('Time')}>
          {clock().format(shown.at_us / 1_000)}{' '}
          <span className="text-ink-soft">
            ({left > 0 ? t('{seconds} s left', { seconds: Math.ceil(left) }) : t('expired')})
          </span>
        </Row>
      </dl>
      {shown.requests > 1 && (
        <p data-testid="requests" className="border-warn border-l-4 px-3 py-2">
          {t('The same device has asked {count} times. One answer counts for all of them.', { count: shown.requests })}
        </p>
      )}
      {shown.asked_us.length > 1 && (
        <div>
          <h2 className="text-ink-faint">{t('Requests')}</h2>
          <ul data-testid="asked" className="font-mono">
            {shown.asked_us.map((at) => (
              <li key={at}>{clock().format(at / 1_000)}</li>
            ))}
          </ul>
        </div>
      )}
      {shown.before_password && (
        <p data-testid="before-password" className="border-warn border-l-4 px-3 py-2">
          <strong>{t('The password is not checked yet.')}</strong>{' '}
          {t(
            'Many wrong passwords were typed for your name. Approve only if you are signing in at this moment: your password is checked then.',
          )}
        </p>
      )}
      <Wrong>{wrong}</Wrong>
      {shown.numbers.length > 0 ? (
        <fieldset>
          <legend className="mb-2 text-lg">{t('To approve, tap the number shown on your computer:')}</legend>
          <div className="grid grid-cols-3 gap-3">
            {shown.numbers.map((number) => (
              <Big
                key={number}
                look="good"
                disabled={busy}
                aria-label={t('Approve with number {number}', { number })}
                onClick={() => say('approve', number)}
                className="!min-h-20 font-mono !text-4xl"
              >
                {number}
              </Big>
            ))}
          </div>
        </fieldset>
      ) : (
        <Big look="good" disabled={busy} onClick={() => say('approve')}>
          {shown.with_key ? t('Approve with security key') : t('Approve')}
        </Big>
      )}
      <Big disabled={busy} onClick={() => say('deny')}>
        {t('Deny')}
      </Big>
      {sure ? (
        <div className="space-y-3 border-ebb border-l-4 bg-ebb-wash px-3 py-3">
          <p>
            {shown.before_password
              ? t('Someone is guessing your password. Requests like this one will be paused for an hour.')
              : t(
                  'Someone may know your password. Sign-in requests will be paused and your administrators notified. Change your password afterwards.',
                )}
          </p>
          <Big look="bad" disabled={busy} onClick={() => say('not-me')}>
            {t('Pause sign-in requests')}
          </Big>
        </div>
      ) : (
        <Big look="bad" disabled={busy} onClick={() => setSure(true)}>
          {t('This wasn’t me')}
        </Big>
      )}
    </div>
  )
}

function Row({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <>
      <dt className="text-ink-faint">{name}</dt>
      <dd className="break-words">{children}</dd>
    </>
  )
}

/** By the service's clock, whatever this phone's says. */
function useSecondsLeft(untilUs: number, offset: number): number {
  const left = () => Math.max(0, (untilUs / 1_000 - (Date.now() + offset)) / 1_000)
  const [seconds, setSeconds] = useState(left)
  useEffect(() => {
    const timer = setInterval(() => setSeconds(left()), 500)
    return () => clearInterval(timer)
  })
  return seconds
}
