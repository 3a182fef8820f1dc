import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { type Awaiting, api, need, words } from '../../api/client'
import { Button } from '../../ui/Button'

/** A revision that goes back by itself unless somebody says that it stays. */
export function ConfirmBanner({ waiting }: { waiting: Awaiting }) {
  const queries = useQueryClient()
  const left = useSecondsUntil(waiting.until_us / 1_000)
  const done = () => {
    for (const queryKey of [['session'], ['site'], ['history'], ['chains']])
      void queries.invalidateQueries({ queryKey })
  }
  const confirm = useMutation({
    mutationFn: async () => need(await api.POST('/api/v1/site/confirm')),
    onSettled: done,
  })
  const back = useMutation({
    mutationFn: async () =>
      need(
        await api.POST('/api/v1/site/revisions/{number}/restore', {
          params: { path: { number: waiting.back_to } },
          body: { weaker_is_meant: true, expected: null },
        }),
      ),
    onSettled: done,
  })
  const problem = confirm.error ?? back.error
  return (
    <div
      role="alert"
      data-testid="confirm"
      className="flex items-center gap-3 border-warn border-b bg-warn-wash px-4 py-1.5"
    >
      <p>
        Revision {waiting.revision} is rolled back to {waiting.back_to} in{' '}
        <span className="font-mono">{left > 90 ? `${Math.ceil(left / 60)} min` : `${left} s`}</span> unless it is
        confirmed.
        {problem && <span className="ml-2 text-ebb">{words(problem)}</span>}
      </p>
      <Button className="ml-auto" onClick={() => confirm.mutate()} disabled={confirm.isPending}>
        Confirm
      </Button>
      <Button onClick={() => back.mutate()} disabled={back.isPending}>
        Roll back now
      </Button>
    </div>
  )
}

function useSecondsUntil(end: number) {
  const [left, setLeft] = useState(() => secondsUntil(end))
  useEffect(() => {
    const timer = window.setInterval(() => setLeft(secondsUntil(end)), 1_000)
    return () => window.clearInterval(timer)
  }, [end])
  return left
}

const secondsUntil = (end: number) => Math.max(0, Math.round((end - Date.now()) / 1_000))
