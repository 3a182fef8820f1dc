import { useCallback, useState } from 'react'
import { words } from './protocol'

/** Runs what a press of a button begins: `busy` meanwhile, and what went `wrong` afterwards. */
export function useAttempt() {
  const [wrong, setWrong] = useState('')
  const [busy, setBusy] = useState(false)
  const attempt = useCallback(async (run: () => Promise<void>) => {
    setBusy(true)
    setWrong('')
    await run().catch((error) => setWrong(words(error)))
    setBusy(false)
  }, [])
  return { attempt, busy, wrong, setWrong }
}
