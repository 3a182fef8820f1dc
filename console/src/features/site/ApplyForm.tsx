import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { ApiError, api, need, words } from '../../api/client'
import { Button } from '../../ui/Button'
import { Differences } from './Changes'
import type { Draft } from './useDraft'

/** Choices of how long a change waits to be confirmed, in seconds. */
const WAITS = [
  { seconds: 0, name: 'it stays' },
  { seconds: 300, name: 'it goes back after 5 min unless confirmed' },
  { seconds: 1_800, name: 'it goes back after 30 min unless confirmed' },
]

type Props = { draft: Draft; sound: boolean; applied: (revision: number) => void }

/** Puts the draft in force. What makes logging in weaker is said first and needs a second word. */
export function ApplyForm({ draft, sound, applied }: Props) {
  const queries = useQueryClient()
  const [note, setNote] = useState('')
  const [wait, setWait] = useState(0)
  const apply = useMutation({
    mutationFn: async (weaker_is_meant: boolean) =>
      need(
        await api.POST('/api/v1/site/revisions', {
          body: {
            text: draft.text,
            note: note.trim(),
            expected: draft.from || null,
            weaker_is_meant,
            confirm_within_s: wait || null,
          },
        }),
      ),
    onSuccess: async (view) => {
      applied(view.revision)
      setNote('')
      for (const queryKey of [['session'], ['site'], ['history'], ['chains']])
        void queries.invalidateQueries({ queryKey })
    },
  })
  const problem = apply.error instanceof ApiError ? apply.error.problem : undefined
  const weaker = problem?.differences?.length ? problem.differences : undefined
  const submit = (event: FormEvent) => {
    event.preventDefault()
    apply.mutate(Boolean(weaker))
  }
  return (
    <form onSubmit={submit} className="border-rule border-t bg-paper px-3 py-2">
      {apply.isError && (
        <div role="alert" className="mb-2 border-ebb border-l-2 bg-ebb-wash px-3 py-1">
          <p>{weaker ? 'Nothing was applied: logging in would become weaker.' : words(apply.error)}</p>
          {weaker && <Differences differences={weaker} />}
        </div>
      )}
      {apply.data?.unreachable.map((source) => (
        <p key={source} className="text-warn">
          ▲ {source}
        </p>
      ))}
      <div className="flex flex-wrap gap-2">
        <input
          aria-label="what the change is for"
          placeholder="what the change is for"
          value={note}
          onChange={(event) => setNote(event.target.value)}
          className="min-w-40 flex-1 rounded border border-rule bg-sheet px-2 py-1"
        />
        <select
          aria-label="whether it waits to be confirmed"
          value={wait}
          onChange={(event) => setWait(Number(event.target.value))}
          className="rounded border border-rule bg-sheet px-2 py-1"
        >
          {WAITS.map(({ seconds, name }) => (
            <option key={seconds} value={seconds}>
              {name}
            </option>
          ))}
        </select>
        <Button
          type="submit"
          disabled={!sound || apply.isPending}
          className={weaker ? '!border-ebb !text-ebb' : '!border-flood'}
        >
          {weaker ? 'apply: weaker is meant' : 'apply'}
        </Button>
      </div>
    </form>
  )
}
