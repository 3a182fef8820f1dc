import { useCallback, useEffect, useRef, useState } from 'react'
import { beginSession, type Device } from './device'
import { call, Refused } from './protocol'

const POLL = 3_000

type Waiting = { shown: string | null; now_us: number }
export type Line = 'live' | 'looking' | 'offline'

/**
 * What waits for the person: live by events; while that line is down, by looking every few seconds. Gives the text as it came, and
 * how far this phone's clock is off, in milliseconds: a countdown must not trust it.
 */
export function useWaiting(device: Device, onDevice: () => void) {
  const [shown, setShown] = useState<string | null>(null)
  const [offset, setOffset] = useState(0)
  const [line, setLine] = useState<Line>('looking')
  const [gone, setGone] = useState(false)
  const latest = useRef(onDevice)
  useEffect(() => {
    latest.current = onDevice
  })
  const take = useCallback((waiting: Waiting) => {
    setShown(waiting.shown)
    setOffset(waiting.now_us / 1_000 - Date.now())
  }, [])
  const look = useCallback(async () => {
    try {
      take(await call<Waiting>('GET', '/approval'))
      return true
    } catch (error) {
      if (!(error instanceof Refused) || error.status !== 401) throw error
      await beginSession(device)
      take(await call<Waiting>('GET', '/approval'))
      return true
    }
  }, [device, take])
  useEffect(() => {
    let ended = false
    let events: EventSource | undefined
    let timer: ReturnType<typeof setTimeout> | undefined
    const listen = () => {
      events = new EventSource('/handset/v1/events')
      events.onopen = () => setLine('live')
      events.addEventListener('approval', (event) => take(JSON.parse(event.data)))
      events.addEventListener('device', () => latest.current())
      events.onerror = () => {
        events?.close()
        poll()
      }
    }
    const poll = async () => {
      if (ended) return
      try {
        await look()
        latest.current()
        setLine('looking')
        timer = setTimeout(() => !ended && listen(), POLL)
      } catch (error) {
        const refused = error instanceof Refused && error.status === 401
        if (refused) setGone(true)
        else {
          setLine('offline')
          timer = setTimeout(poll, POLL)
        }
      }
    }
    // A line that is cut may take minutes to be noticed; the browser often knows at once.
    const offline = () => {
      events?.close()
      clearTimeout(timer)
      poll()
    }
    window.addEventListener('offline', offline)
    window.addEventListener('online', offline)
    look().then(
      () => {
        latest.current()
        if (!ended) listen()
      },
      () => poll(),
    )
    return () => {
      ended = true
      window.removeEventListener('offline', offline)
      window.removeEventListener('online', offline)
      events?.close()
      clearTimeout(timer)
    }
  }, [look, take])
  return { shown, offset, line, gone, look }
}
