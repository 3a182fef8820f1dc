import '../main.css'
import { StrictMode, useEffect, useState, useSyncExternalStore } from 'react'
import { createRoot } from 'react-dom/client'
import { type Device, ownDevice } from './device'
import { Enrol } from './Enrol'
import { Home } from './Home'
import { OwnPage } from './OwnPage'
import { call, type Page } from './protocol'
import { currentLanguage, onLanguage, speak } from './texts'

/** The person's own page on the phone. */
function Handset() {
  const [device, setDevice] = useState<Device | null>()
  const [own, setOwn] = useState(() => window.location.pathname.endsWith('/own'))
  const [page, setPage] = useState<Page>()
  useEffect(() => {
    const tag = currentLanguage()
    call<Page>('GET', `/page?language=${encodeURIComponent(tag)}`).then(
      (found) => {
        setPage(found)
        speak(tag, found.texts)
      },
      () => {},
    )
    ownDevice().then(
      (known) => setDevice(known ?? null),
      () => setDevice(null),
    )
  }, [])
  if (device === undefined) return null
  // An invitation in the link is for a new device, even on a phone that is somebody's already.
  const invited = window.location.hash.length > 1
  const enrolled = (known: Device) => {
    setDevice(known)
    setOwn(false)
  }
  return (
    <main className="mx-auto min-h-full max-w-md px-5 pt-6 pb-10 text-base">
      {own && <OwnPage hasDevice={device !== null} enrolled={enrolled} back={() => setOwn(false)} />}
      {!own && (device === null || invited) && (
        <Enrol done={enrolled} signIn={page?.signs_in ? () => setOwn(true) : undefined} />
      )}
      {!own && device && !invited && (
        <Home
          key={device.device}
          device={device}
          forget={() => setDevice(null)}
          signIn={page?.signs_in ? () => setOwn(true) : undefined}
        />
      )}
    </main>
  )
}

/** Draws everything anew when the language turns out to be another one. */
function Spoken() {
  const language = useSyncExternalStore(onLanguage, currentLanguage)
  return <Handset key={language} />
}

speak(currentLanguage())
if ('serviceWorker' in navigator && window.isSecureContext) {
  navigator.serviceWorker.register('/handset-worker.js', { scope: '/handset' }).catch(() => {})
}
// Fields of less than sixteen pixels make phones zoom in.
document.documentElement.style.fontSize = '17px'
const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <Spoken />
    </StrictMode>,
  )
}
