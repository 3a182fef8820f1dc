// Makes the page installable and lets it open without a network, so that it can say that there is none; shows sign-in requests that come by
// push, and denies them at once where the person says so. Nothing that is said to the service, and nothing it answers, is ever kept.
const SHELL = 'handset-1'
const LONGEST = 240_000

self.addEventListener('install', () => self.skipWaiting())
self.addEventListener('activate', (event) => event.waitUntil(self.clients.claim()))
self.addEventListener('fetch', (event) => {
  const { pathname } = new URL(event.request.url)
  const page = pathname === '/handset' || pathname.startsWith('/handset/request/')
  const shell = page || pathname.startsWith('/assets/') || pathname === '/mark.svg' || pathname === '/theme.js'
  if (event.request.method !== 'GET' || !shell) return
  // The page is the same one, whatever request it was opened for.
  const key = page ? '/handset' : event.request
  event.respondWith(
    fetch(event.request)
      .then((answer) => {
        if (answer.ok) {
          const copy = answer.clone()
          event.waitUntil(caches.open(SHELL).then((cache) => cache.put(key, copy)))
        }
        return answer
      })
      .catch(async () => (await caches.match(key)) ?? Response.error()),
  )
})

self.addEventListener('push', (event) => {
  let notice
  try {
    notice = event.data.json()
  } catch {
    return
  }
  if (notice.kind === 'over') event.waitUntil(takeAway(notice.id))
  else event.waitUntil(show(notice))
})

self.addEventListener('notificationclick', (event) => {
  const { notice } = event.notification.data ?? {}
  event.notification.close()
  if (event.action === 'deny') event.waitUntil(deny(notice))
  else event.waitUntil(open(notice))
})

// The browser has replaced the subscription by itself: the page takes the new one over when it is opened; until then the old one is said
// to be over.
self.addEventListener('pushsubscriptionchange', (event) => {
  event.waitUntil(withSession('DELETE', '/push', { state: 'ended' }).catch(() => {}))
})

async function show(notice) {
  const test = notice.kind === 'test'
  const actions = notice.buttons ? [{ action: 'deny', title: notice.buttons.deny }, { action: 'open', title: notice.buttons.open }] : []
  await self.registration.showNotification(notice.title, {
    body: notice.body,
    lang: notice.language || 'en',
    tag: test ? 'test' : notice.id,
    icon: '/mark.svg',
    badge: '/mark.svg',
    requireInteraction: !test,
    renotify: true,
    vibrate: [200, 100, 200],
    actions,
    data: { notice },
  })
  await report(notice, 'shown')
  if (test) return
  // By the service's clock: the phone's may be wrong.
  const left = Math.min(LONGEST, Math.max(0, (notice.until_us - notice.now_us) / 1_000))
  await new Promise((done) => setTimeout(done, left))
  await takeAway(notice.id)
}

async function takeAway(id) {
  for (const shown of await self.registration.getNotifications({ tag: id })) shown.close()
}

async function open(notice) {
  await report(notice, 'opened')
  const all = await self.clients.matchAll({ type: 'window', includeUncontrolled: true })
  const own = all.find((client) => new URL(client.url).pathname.startsWith('/handset'))
  if (own) await own.focus().catch(() => {})
  else await self.clients.openWindow('/handset').catch(() => {})
}

async function deny(notice) {
  try {
    const waiting = await withSession('GET', '/approval')
    const shown = waiting.shown && JSON.parse(waiting.shown)
    if (!shown || shown.id !== notice.id) return
    const device = await ownDevice()
    const signature = await sign(device.key, `bivector handset answer 1\ndeny\n\n${waiting.shown}`)
    await call('POST', `/approvals/${notice.id}`, { decision: 'deny', number: null, signature })
    await keepAnswer({ at: Date.now(), decision: 'deny', gateway: shown.gateway, from: shown.from })
  } catch {
    // It could not be said: the person must see that the request still waits.
    await open(notice)
  }
}

async function report(notice, seen) {
  if (!notice?.ticket) return
  await call('POST', '/push/report', { ticket: notice.ticket, seen }).catch(() => {})
}

async function withSession(method, path, body) {
  try {
    return await call(method, path, body)
  } catch (error) {
    if (error.status !== 401) throw error
    const device = await ownDevice()
    const { challenge } = await call('POST', '/challenge', { person: device.person, device: device.device })
    const signature = await sign(device.key, `bivector handset session 1\n${challenge}`)
    await call('POST', '/session', { challenge, signature })
    return call(method, path, body)
  }
}

async function call(method, path, body) {
  const answer = await fetch(`/handset/v1${path}`, {
    method,
    headers: { 'x-bivector-handset': '1', ...(body ? { 'content-type': 'application/json' } : {}) },
    body: body ? JSON.stringify(body) : undefined,
  })
  if (!answer.ok) throw Object.assign(new Error(`the service answered ${answer.status}`), { status: answer.status })
  const text = await answer.text()
  return text ? JSON.parse(text) : undefined
}

async function sign(key, text) {
  const bytes = await crypto.subtle.sign({ name: 'ECDSA', hash: 'SHA-256' }, key, new TextEncoder().encode(text))
  return btoa(String.fromCharCode(...new Uint8Array(bytes))).replaceAll('+', '-').replaceAll('/', '_').replaceAll('=', '')
}

// The phone's own store, as the page has it.
function store() {
  return new Promise((done, failed) => {
    const request = indexedDB.open('bivector-handset', 2)
    request.onupgradeneeded = (event) => {
      if (event.oldVersion < 1) request.result.createObjectStore('devices')
      if (event.oldVersion < 2) request.result.createObjectStore('answers', { keyPath: 'at' })
    }
    request.onsuccess = () => done(request.result)
    request.onerror = () => failed(request.error)
  })
}

async function within(name, mode, act) {
  const database = await store()
  try {
    return await new Promise((done, failed) => {
      const request = act(database.transaction(name, mode).objectStore(name))
      request.onsuccess = () => done(request.result)
      request.onerror = () => failed(request.error)
    })
  } finally {
    database.close()
  }
}

async function ownDevice() {
  const device = await within('devices', 'readonly', (devices) => devices.get('own'))
  if (!device) throw new Error('this phone is nobody’s')
  return device
}

const keepAnswer = (answer) => within('answers', 'readwrite', (answers) => answers.put(answer))
