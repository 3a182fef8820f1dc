import { call, type PushOffer, type Schemas } from './protocol'

/** How far this browser is on the way to notifications. */
export type Permission = 'unsupported' | 'needs-install' | 'ask' | 'refused' | 'granted'

const isApple = () =>
  /iPhone|iPad|iPod/.test(navigator.userAgent) ||
  (/Macintosh/.test(navigator.userAgent) && navigator.maxTouchPoints > 1)

export const isAndroid = () => /Android/.test(navigator.userAgent)

/** Whether the page was installed and runs like an app. */
export const isInstalled = () =>
  window.matchMedia('(display-mode: standalone)').matches || (navigator as { standalone?: boolean }).standalone === true

export function permission(): Permission {
  const possible = 'serviceWorker' in navigator && 'PushManager' in window && 'Notification' in window
  if (!possible) return isApple() && !isInstalled() ? 'needs-install' : 'unsupported'
  if (Notification.permission === 'denied') return 'refused'
  return Notification.permission === 'granted' ? 'granted' : 'ask'
}

const bytes = (text: string) => {
  const plain = atob(text.replaceAll('-', '+').replaceAll('_', '/'))
  return Uint8Array.from(plain, (character) => character.charCodeAt(0))
}

/** Subscribes in this browser, and tells the service. An address that is another person's is given up for a new one. */
export async function subscribe(offer: PushOffer): Promise<Schemas['PushTested']> {
  const { pushManager } = await navigator.serviceWorker.ready
  const options = { userVisibleOnly: true, applicationServerKey: bytes(offer.key) }
  const old = await pushManager.getSubscription()
  // A subscription belongs to the key that it was made with.
  if (old && offer.subscribed_with !== offer.key) await old.unsubscribe()
  let subscription = await pushManager.subscribe(options)
  try {
    return await send(subscription, offer.key)
  } catch (error) {
    if (!(error instanceof Error && 'status' in error && error.status === 409)) throw error
    await subscription.unsubscribe()
    subscription = await pushManager.subscribe(options)
    return send(subscription, offer.key)
  }
}

async function send(subscription: PushSubscription, key: string): Promise<Schemas['PushTested']> {
  const { endpoint, keys } = subscription.toJSON()
  return call('PUT', '/push', { endpoint, p256dh: keys?.p256dh ?? '', auth: keys?.auth ?? '', key })
}

/** Whether this browser still has the subscription that the service knows. */
export async function isSubscribed(): Promise<boolean> {
  const { pushManager } = await navigator.serviceWorker.ready
  return (await pushManager.getSubscription()) !== null
}
