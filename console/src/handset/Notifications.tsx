import { useCallback, useEffect, useState } from 'react'
import { useAttempt } from './attempt'
import { Install } from './Install'
import { Big, Part, Wrong } from './parts'
import { call, type PushOffer, type Schemas } from './protocol'
import { isAndroid, isInstalled, isSubscribed, type Permission, permission, subscribe } from './push'
import { t } from './texts'

/** How sign-in requests reach this phone while its page is closed: why it asks, what is missing, and a test. `turn` changes when something
 * about the person's devices does. */
export function Notifications({ turn }: { turn: number }) {
  const [offer, setOffer] = useState<PushOffer>()
  const [allowed, setAllowed] = useState<Permission>(permission)
  const { attempt, busy, wrong, setWrong } = useAttempt()
  const take = useCallback(
    async (tested: Promise<Schemas['PushTested']>) => {
      const { accepted, said } = await tested
      if (!accepted && said) setWrong(t('The test notification could not be sent: {why}', { why: said }))
      setOffer(await call<PushOffer>('GET', '/push'))
    },
    [setWrong],
  )
  // biome-ignore lint/correctness/useExhaustiveDependencies: looked at again when `turn` changes
  useEffect(() => {
    const look = async () => {
      const found = await call<PushOffer>('GET', '/push')
      const now = permission()
      setAllowed(now)
      setOffer(found)
      if (!found.offered) return
      const state = found.push.state
      // Operators see why push does not work here.
      if (now === 'refused' && state !== 'refused') await call('DELETE', '/push', { state: 'refused' })
      if (now === 'unsupported' && state !== 'unsupported') await call('DELETE', '/push', { state: 'unsupported' })
      // The browser has lost its subscription, or the service has a new key.
      const lost = found.subscribed_with !== found.key || !(await isSubscribed().catch(() => true))
      if (now === 'granted' && lost) await take(subscribe(found))
    }
    // Offline: the page says so elsewhere.
    look().catch(() => {})
  }, [turn, take])
  if (!offer?.offered) return null
  const allow = () =>
    attempt(async () => {
      await Notification.requestPermission()
      const now = permission()
      setAllowed(now)
      if (now === 'granted') await take(subscribe(offer))
      else if (now === 'refused') await call('DELETE', '/push', { state: 'refused' })
    })
  const test = () => attempt(() => take(call('POST', '/push/test')))
  const state = offer.push.state
  return (
    <Part title={t('Notifications')}>
      <div className="space-y-3" data-testid="notifications" data-state={state}>
        {allowed === 'granted' && state === 'ready' && (
          <p className="text-flood">● {t('Notifications work on this phone.')}</p>
        )}
        {allowed === 'granted' && state === 'untested' && (
          <p className="border-warn border-l-4 px-3 py-2">
            {t('A test notification was sent. Tap it to confirm that this phone shows notifications.')}
          </p>
        )}
        {allowed === 'ask' && (
          <p>
            {t(
              'Sign-in requests wait less than a minute. A notification tells you about them while this page is closed and the phone is in your pocket. That is all they are used for.',
            )}
          </p>
        )}
        {allowed === 'refused' && (
          <p className="border-warn border-l-4 px-3 py-2">
            {t(
              'Notifications are blocked for this page. Allow them in the settings of your browser or phone, then come back here.',
            )}
          </p>
        )}
        {allowed === 'unsupported' && (
          <p className="border-warn border-l-4 px-3 py-2">
            {t(
              'This browser cannot receive notifications. Keep this page open while you sign in, or use another browser.',
            )}
          </p>
        )}
        {allowed === 'needs-install' && <Install />}
        {allowed === 'granted' && isAndroid() && !isInstalled() && (
          <p className="text-ink-soft">
            {t(
              'Tip: open the menu of the browser and choose “Install app” or “Add to Home screen”. The page then opens like an app.',
            )}
          </p>
        )}
        <Wrong>{wrong}</Wrong>
        {allowed === 'ask' && (
          <Big look="good" disabled={busy} onClick={allow}>
            {t('Allow notifications')}
          </Big>
        )}
        {allowed === 'granted' && (
          <Big disabled={busy} onClick={test}>
            {t('Send a test notification')}
          </Big>
        )}
      </div>
    </Part>
  )
}
