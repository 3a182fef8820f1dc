import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, type ReactNode, useState } from 'react'
import { ApiError, api, need, type Run, words } from '../../api/client'
import { Button } from '../../ui/Button'
import { Differences } from './Changes'
import type { Draft } from './useDraft'

/** Choices of how long a change waits to be confirmed, in seconds. */
const WAITS = [
  { seconds: 0, name: 'Keep (no automatic rollback)' },
  { seconds: 300, name: 'Roll back after 5 min unless confirmed' },
  { seconds: 1_800, name: 'Roll back after 30 min unless confirmed' },
]

/** The rehearsals of the site that is active; the draft may have others, which its text then names. */
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
              result.differences.map((one) => `${one.what}: expected ${one.wanted}, got ${one.seen}`).join(', ')}
          </li>
        ))}
    </ul>
  )
}

type Props = { draft: Draft; sound: boolean; applied: (revision: number) => void }

/** Applies the draft. A change that weakens authentication is described first and needs a second click. */
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
          <p>{weaker ? 'Not applied: this change weakens authentication.' : words(apply.error)}</p>
          {weaker && <Differences differences={weaker} />}
          {problem?.run && <Failed run={problem.run} />}
        </div>
      )}
      {apply.data?.unreachable.map((source) => (
        <p key={source} className="text-warn">
          ▲ Applied, but these sources cannot be reached: {source}
        </p>
      ))}
      <div className="flex flex-wrap items-end gap-2">
        <Labelled name="Reason" className="min-w-40 flex-1">
          <input
            aria-label="Reason for the change"
            value={note}
            onChange={(event) => setNote(event.target.value)}
            className="w-full rounded border border-rule bg-sheet px-2 py-1"
          />
        </Labelled>
        <Labelled name="Automatic rollback">
          <select
            aria-label="Automatic rollback"
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
        </Labelled>
        {rehearsals.length > 0 && (
          <Labelled name="Required rehearsal">
            <select
              aria-label="Required rehearsal"
              value={prove}
              onChange={(event) => setProve(event.target.value)}
              className="rounded border border-rule bg-sheet px-2 py-1"
            >
              <option value="">No rehearsal</option>
              {rehearsals.map(({ name }) => (
                <option key={name} value={name}>
                  Only if “{name}” passes
                </option>
              ))}
            </select>
          </Labelled>
        )}
        <Button
          type="submit"
          disabled={!sound || apply.isPending}
          title={sound ? undefined : 'Fix the errors under Findings first'}
          className={weaker ? '!border-ebb !text-ebb' : '!border-flood'}
        >
          {apply.isPending && prove ? 'Running rehearsal…' : weaker ? 'Apply anyway' : 'Apply'}
        </Button>
      </div>
      <p className="mt-1 text-ink-faint text-xs">
        {sound
          ? 'Takes effect at once. Logins in progress finish under the old revision.'
          : 'Fix the errors under Findings first.'}
      </p>
    </form>
  )
}

function Labelled({ name, className = '', children }: { name: string; className?: string; children: ReactNode }) {
  return (
    <div className={className}>
      <span aria-hidden="true" className="block text-ink-faint text-xs">
        {name}
      </span>
      {children}
    </div>
  )
}
