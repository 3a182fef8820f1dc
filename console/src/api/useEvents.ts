import { useEffect, useRef, useState } from 'react'
import type { Knock, Progress, TraceRow } from './client'

export type Line = 'live' | 'connecting'

type Handlers = {
  onTrace?: (row: TraceRow) => void
  onKnock?: (knock: Knock) => void
  onServer?: () => void
  onSite?: () => void
  onPerson?: () => void
  onRun?: (progress: Progress) => void
  onSession?: () => void
  onMissed: () => void
}

/**
 * Listens to what happens. A line that breaks is taken up again by the browser. Whatever happened before it was live,
 * for the first time too, is fetched.
 */
export function useEvents(handlers: Handlers): Line {
  const [line, setLine] = useState<Line>('connecting')
  const latest = useRef(handlers)
  useEffect(() => {
    latest.current = handlers
  })
  useEffect(() => {
    const source = new EventSource('/api/v1/events')
    source.onopen = () => {
      setLine('live')
      latest.current.onMissed()
    }
    source.onerror = () => setLine('connecting')
    source.addEventListener('trace', (event) => latest.current.onTrace?.(JSON.parse(event.data)))
    source.addEventListener('knock', (event) => latest.current.onKnock?.(JSON.parse(event.data)))
    source.addEventListener('server', () => latest.current.onServer?.())
    source.addEventListener('site', () => latest.current.onSite?.())
    source.addEventListener('person', () => latest.current.onPerson?.())
    source.addEventListener('run', (event) => latest.current.onRun?.(JSON.parse(event.data)))
    source.addEventListener('session', () => latest.current.onSession?.())
    source.addEventListener('notice', () => latest.current.onPerson?.())
    source.addEventListener('missed', () => latest.current.onMissed())
    return () => source.close()
  }, [])
  return line
}
