import { useEffect } from 'react'

/** Calls back when Escape is pressed anywhere on the page: panels close by it. */
export function useEscape(close: () => void) {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => event.key === 'Escape' && close()
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [close])
}
