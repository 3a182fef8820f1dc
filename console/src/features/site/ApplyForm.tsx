import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { ApiError, api, need, type Run, words } from '../../api/client'
import { Button } from '../../ui/Button'
import { Differences } from './Changes'
import type { Draft } from './useDraft'

/** Choices of how long a change waits to be confirmed, in seconds. */
const WAITS = [
  { seconds: 0, name: 'it stays' },
  { seconds: 300, name: 'it goes back after 5 min unless confirmed' },
  { seconds: 1_800, name: 'it goes back after 30 min unless confirmed' },
]

/** The rehearsals of the site in force; the draft may have others, which its text then names. */
function useRehearsals() {
  const rehearsals = useQuery({
    queryKey: ['rehearsals'],
    queryFn: async () => need(await api.GET('/api/v1/rehearsals')),
  })
  return rehearsals.data ?? []
}

/** What came otherwise than it must, of a change that was to be proved. */
function Failed({ run }: { run: Run }) {
  return (
    <ul>
      {run.results
        .filter((result) => result.error || result.differences.length > 0)
        .map((result) => (
          <li key={`${result.title} ${result.turn}`}>
            ✕ {result.title}:{' '}
            {result.error ??
              result.differences.map((one) => `${one.what} ${one.seen} instead of ${one.wanted}`).join(', ')}
          </li>
        ))}
    </ul>
  )
}

type Props = { draft: Draft; sound: boolean; applied: (revision: number) => void }

/** Puts the draft in force. What makes logging in weaker is said first and needs a second word. */
export function ApplyForm({ draft, sound, applied }: Props) {
  const queries = useQueryClient()
  const [note, setNote] = useState('')
  const [wait, setWait] = useState(0)
  const [prove, setProve] = useState('')
  const rehearsals = useRehearsals()
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
            prove: prove || null,
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
          {problem?.run && <Failed run={problem.run} />}
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
        {rehearsals.length > 0 && (
          <select
            aria-label="rehearsal that must pass first"
            value={prove}
            onChange={(event) => setProve(event.target.value)}
            className="rounded border border-rule bg-sheet px-2 py-1"
          >
            <option value="">unproved</option>
            {rehearsals.map(({ name }) => (
              <option key={name} value={name}>
                only if {name} passes
              </option>
            ))}
          </select>
        )}
        <Button
          type="submit"
          disabled={!sound || apply.isPending}
          className={weaker ? '!border-ebb !text-ebb' : '!border-flood'}
        >
          {apply.isPending && prove ? 'proving …' : weaker ? 'apply: weaker is meant' : 'apply'}
        </Button>
      </div>
    </form>
  )
}
