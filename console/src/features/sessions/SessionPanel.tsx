import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { type ReactNode, useState } from 'react'
import { api, need, type SessionRow, words } from '../../api/client'
import { fullTime, lasted, size, took } from '../../lib/format'
import { useEscape } from '../../lib/useEscape'
import { Button } from '../../ui/Button'
import { useSession } from '../session/useSession'
import { SessionMark } from './SessionMark'

/** One session: whose it is, what went over it, the login it came from, and its end. */
export function SessionPanel({ id, close }: { id: number; close: () => void }) {
  const session = useQuery({
    queryKey: ['sessions', 'one', id],
    queryFn: async () => need(await api.GET('/api/v1/sessions/{id}', { params: { path: { id } } })),
  })
  useEscape(close)
  return (
    <aside
      aria-label={`session ${id}`}
      data-testid="session-panel"
      className="flex w-[480px] shrink-0 flex-col overflow-y-auto border-rule border-l bg-sheet max-lg:w-full"
    >
      <div className="flex items-center gap-3 border-rule border-b px-4 py-2">
        <h2 className="font-semibold">
          Session <span className="font-mono">{id}</span>
        </h2>
        <Button className="ml-auto" onClick={close} aria-label="close">
          ✕
        </Button>
      </div>
      {session.isError && <p className="p-4 text-ebb">{words(session.error)}</p>}
      {session.data && <Facts row={session.data} />}
      {session.data && !session.data.ended_us && <Requests row={session.data} />}
    </aside>
  )
}

function Facts({ row }: { row: SessionRow }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 border-rule border-b px-4 py-3 [&>dt]:text-ink-faint [&>dt]:text-xs">
      <Fact name="State">
        <SessionMark row={row} />
      </Fact>
      <Fact name="User">{row.person ?? (row.name || '–')}</Fact>
      <Fact name="Gateway">{row.gateway}</Fact>
      <Fact name="Began">{fullTime(row.began_us)}</Fact>
      <Fact name="Lasted">{lasted(row)}</Fact>
      {row.ended_us && <Fact name="Ended">{fullTime(row.ended_us)}</Fact>}
      <Fact name="Last heard of">{fullTime(row.heard_us)}</Fact>
      <Fact name="From the user">{size(row.traffic.bytes_in)}</Fact>
      <Fact name="To the user">{size(row.traffic.bytes_out)}</Fact>
      {row.addresses.length > 0 && <Fact name="Address">{row.addresses.join(', ')}</Fact>}
      {row.caller && <Fact name="Caller">{row.caller}</Fact>}
      {row.called && <Fact name="Called">{row.called}</Fact>}
      {row.port && <Fact name="Port">{row.port}</Fact>}
      <Fact name="Name at the gateway">{row.name || '–'}</Fact>
      <Fact name="Gateway calls it">{row.session}</Fact>
      <Fact name="Login">
        {row.reference ? (
          <Link to="/logins" search={{ open: row.reference }} className="font-mono underline">
            {row.reference}
          </Link>
        ) : (
          'unknown: the gateway returned no Class, and no login fits'
        )}
      </Fact>
      {row.chain && <Fact name="Chain">{row.chain}</Fact>}
      {row.grant && <Fact name="Grant">{row.grant}</Fact>}
      {row.factor && <Fact name="Second factor">{row.factor}</Fact>}
      {row.asked && <Fact name="Asked to end">{row.asked}</Fact>}
      {row.odd && <Fact name="Odd">{row.odd}</Fact>}
    </dl>
  )
}

/** Asks the gateway, and shows what it answered. */
function Requests({ row }: { row: SessionRow }) {
  const { session } = useSession()
  const queries = useQueryClient()
  const [reason, setReason] = useState('')
  const path = { id: row.id }
  const onSettled = () => queries.invalidateQueries({ queryKey: ['sessions'] })
  const end = useMutation({
    mutationFn: async () => need(await api.POST('/api/v1/sessions/{id}/end', { params: { path }, body: { reason } })),
    onSettled,
  })
  const change = useMutation({
    mutationFn: async () => need(await api.POST('/api/v1/sessions/{id}/change', { params: { path } })),
    onSettled,
  })
  const answer = end.data ?? change.data
  const error = end.error ?? change.error
  if (session.data?.role === 'view') return null
  return (
    <form
      className="flex flex-col gap-2 px-4 py-3"
      onSubmit={(event) => {
        event.preventDefault()
        change.reset()
        end.mutate()
      }}
    >
      <label className="flex flex-col gap-0.5">
        <span className="text-ink-faint text-xs">Reason (optional)</span>
        <input
          value={reason}
          maxLength={200}
          onChange={(event) => setReason(event.target.value)}
          className="rounded border border-rule bg-paper px-2 py-1"
        />
      </label>
      <div className="flex flex-wrap gap-2">
        <Button type="submit" className="!border-ebb" disabled={end.isPending}>
          {end.isPending ? 'Asking the gateway…' : 'Disconnect'}
        </Button>
        <Button
          disabled={change.isPending || !row.grant}
          onClick={() => {
            end.reset()
            change.mutate()
          }}
        >
          {change.isPending ? 'Asking the gateway…' : 'Send the grant again'}
        </Button>
      </div>
      {answer && (
        <p data-testid="session-answer" className={answer.done ? 'text-flood' : 'text-ebb'}>
          {answer.done ? '✓' : '✕'} {answer.said} ({took(answer.took_us)})
        </p>
      )}
      {error && (
        <p data-testid="session-answer" className="text-ebb">
          {words(error)}
        </p>
      )}
    </form>
  )
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt>{name}</dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </>
  )
}
