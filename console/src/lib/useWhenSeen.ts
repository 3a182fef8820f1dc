import { useCallback, useEffect, useRef } from 'react'

/** A ref for an element; calls back when the element comes into sight. */
export function useWhenSeen(seen: () => void) {
  const latest = useRef(seen)
  useEffect(() => {
    latest.current = seen
  })
  return useCallback((element: HTMLElement | null) => {
    if (!element) return
    const observer = new IntersectionObserver((entries) => {
      if (entries.some((entry) => entry.isIntersecting)) latest.current()
    })
    observer.observe(element)
    return () => observer.disconnect()
  }, [])
}
