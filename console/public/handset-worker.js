// Makes the page installable and lets it open without a network, so that it can say that there is none. Nothing that is said to the
// service, and nothing it answers, is ever kept.
const SHELL = 'handset-1'

self.addEventListener('install', () => self.skipWaiting())
self.addEventListener('activate', (event) => event.waitUntil(self.clients.claim()))
self.addEventListener('fetch', (event) => {
  const { pathname } = new URL(event.request.url)
  const shell = pathname === '/handset' || pathname.startsWith('/assets/') || pathname === '/mark.svg'
  if (event.request.method !== 'GET' || !shell) return
  event.respondWith(
    fetch(event.request)
      .then((answer) => {
        if (answer.ok) {
          const copy = answer.clone()
          event.waitUntil(caches.open(SHELL).then((cache) => cache.put(event.request, copy)))
        }
        return answer
      })
      .catch(async () => (await caches.match(event.request)) ?? Response.error()),
  )
})
