import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { ApiError, api, need, words } from '../../api/client'
import { fullTime } from '../../lib/format'
import { Button } from '../../ui/Button'
import { Changes, Differences } from './Changes'

type Props = { current: number; load: (text: string) => void; mayChange: boolean }

/** All revisions, newest first: what each was for, how it differs from what is in force, and back to it. */
export function History({ current, load, mayChange }: Props) {
  const [open, setOpen] = useState<number>()
  const history = useQuery({
    queryKey: ['history'],
    queryFn: async () => need(await api.GET('/api/v1/site/revisions')),
  })
  if (history.isError) return <p className="p-3 text-ebb">{words(history.error)}</p>
  return (
    <ol data-testid="history">
      {history.data?.map((revision) => (
        <li key={revision.number} className="border-rule-fine border-b">
          <button
            type="button"
            aria-expanded={open === revision.number}
            onClick={() => setOpen(open === revision.number ? undefined : revision.number)}
            className="grid w-full grid-cols-[2.5rem_1fr] gap-x-2 px-3 py-1.5 text-left hover:bg-rule-fine"
          >
            <span className="font-mono">{revision.number}</span>
            <span className="min-w-0">
              <span className="block truncate">
                {revision.note || <span className="text-ink-faint">No reason given</span>}
              </span>
              <span className="block text-ink-faint text-xs">
                {fullTime(revision.applied_us)} by {revision.operator}
                {revision.number === current && <span className="ml-2 text-flood">● Active</span>}
              </span>
            </span>
          </button>
          {open === revision.number && (
            <Earlier number={revision.number} current={current} load={load} mayChange={mayChange} />
          )}
        </li>
      ))}
    </ol>
  )
}

type EarlierProps = { number: number; current: number; load: (text: string) => void; mayChange: boolean }

function Earlier({ number, current, load, mayChange }: EarlierProps) {
  const queries = useQueryClient()
  const revision = useQuery({
    queryKey: ['revision', number],
    queryFn: async () => need(await api.GET('/api/v1/site/revisions/{number}', { params: { path: { number } } })),
    staleTime: Number.POSITIVE_INFINITY,
  })
  const restore = useMutation({
    mutationFn: async (weaker_is_meant: boolean) =>
      need(
        await api.POST('/api/v1/site/revisions/{number}/restore', {
          params: { path: { number } },
          body: { weaker_is_meant, expected: current },
        }),
      ),
    onSuccess: () => {
      for (const queryKey of [['session'], ['site'], ['history'], ['chains']])
        void queries.invalidateQueries({ queryKey })
    },
  })
  const weaker = restore.error instanceof ApiError ? restore.error.problem.differences : undefined
  const text = revision.data?.text
  if (text == null) return null
  return (
    <div className="border-rule-fine border-t bg-paper">
      {number !== current && <Changes text={text} against={current} />}
      {restore.isError && (
        <div role="alert" className="border-ebb border-l-2 bg-ebb-wash px-3 py-1">
          <p>{words(restore.error)}</p>
          {weaker && <Differences differences={weaker} />}
        </div>
      )}
      <p className="flex gap-2 px-3 py-2">
        <Button onClick={() => load(text)}>Edit as draft</Button>
        {number !== current && mayChange && (
          <Button onClick={() => restore.mutate(Boolean(weaker?.length))} disabled={restore.isPending}>
            {weaker?.length ? 'Restore anyway' : `Restore revision ${number}`}
          </Button>
        )}
      </p>
    </div>
  )
}
