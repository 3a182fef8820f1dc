import { useMutation } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api, need, type Tried, words } from '../../api/client'
import { took } from '../../lib/format'
import { Button } from '../../ui/Button'
import { Waterfall } from '../logins/Waterfall'
import { useSession } from '../session/useSession'
import { asksInside, isEap, TextField, type Whose, WhoseFields } from './fields'

/** One login through a gateway's whole chain; prompts are answered where they come. */
export function OneLogin(given: { person?: string; via?: string }) {
  const { session } = useSession()
  const gateways = session.data?.gateways ?? []
  const [typedIn, setTypedIn] = useState<Partial<Whose>>(given)
  const { person = '', via = gateways[0] ?? '', method = 'pap' } = typedIn
  const whose: Whose = { person, via, method }
  const change = (part: Partial<Whose>) => setTypedIn((old) => ({ ...old, ...part }))
  const [typed, setTyped] = useState('')
  const [caller, setCaller] = useState('')
  const [outer, setOuter] = useState('')
  const [answer, setAnswer] = useState('')
  const attempt = useMutation({
    mutationFn: async (state: string | null) =>
      need(
        await api.POST('/api/v1/logins', {
          body: {
            ...whose,
            password: typed,
            caller: caller || null,
            state,
            outer: outer && isEap(method) ? outer : null,
            answers: answer && asksInside(method) ? [answer] : [],
          },
        }),
      ),
    onSettled: () => {
      setTyped('')
      setAnswer('')
    },
  })
  const tried = attempt.data
  const asks = tried?.state ?? null
  const submit = (event: FormEvent) => {
    event.preventDefault()
    attempt.mutate(asks)
  }
  return (
    <div className="grid h-full grid-cols-[minmax(16rem,22rem)_1fr] overflow-y-auto max-md:block">
      <form
        onSubmit={submit}
        className="flex flex-col gap-2 border-rule border-r bg-sheet p-4 max-md:border-r-0 max-md:border-b"
      >
        <WhoseFields whose={whose} gateways={gateways} change={change} fixed={asks !== null} />
        <TextField
          name="Calling-Station-Id (optional)"
          value={caller}
          onChange={(event) => setCaller(event.target.value)}
        />
        {asks !== null && <Prompt tried={tried} />}
        <TextField
          key={asks ?? 'first'}
          name={asks === null ? 'Password field' : 'Answer to the prompt'}
          type="password"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
        {asksInside(method) && (
          <TextField
            name="Answer to the prompt inside EAP (optional)"
            type="password"
            value={answer}
            onChange={(event) => setAnswer(event.target.value)}
          />
        )}
        {isEap(method) && (
          <TextField
            name="Identity outside the tunnel (optional)"
            value={outer}
            onChange={(event) => setOuter(event.target.value)}
          />
        )}
        <div className="flex gap-2">
          <Button type="submit" className="!border-flood" disabled={attempt.isPending || whose.person === ''}>
            {attempt.isPending ? 'Sending…' : asks === null ? 'Send login' : 'Send answer'}
          </Button>
          {asks !== null && <Button onClick={() => attempt.reset()}>Cancel</Button>}
        </div>
        <p className="text-ink-faint text-xs">
          Sends a real request with this gateway's shared secret on a private socket. It is recorded as a rehearsal.
          Codes are consumed as in any login.
        </p>
      </form>
      <section aria-label="Result" data-testid="tried" className="min-w-0">
        {attempt.isError && <p className="p-4 text-ebb">{words(attempt.error)}</p>}
        {tried && <Answer tried={tried} />}
        {!tried && !attempt.isError && (
          <p className="p-6 text-ink-soft">The reply, its attributes and every step appear here.</p>
        )}
      </section>
    </div>
  )
}

function Prompt({ tried }: { tried: Tried | undefined }) {
  const text = tried?.attributes.find((attribute) => attribute.name === 'Reply-Message')?.value
  return (
    <p className="border-focus border-l-2 bg-paper px-3 py-1">
      {text ?? 'The gateway would show a prompt here (no text was sent).'}
    </p>
  )
}

function Answer({ tried }: { tried: Tried }) {
  const good = tried.reply === 'Access-Accept'
  return (
    <>
      <div className="border-rule border-b px-4 py-2">
        <p className={good ? 'text-flood' : tried.state ? 'text-focus' : 'text-ebb'}>
          {good ? '●' : tried.state ? '◐' : '✕'} {tried.reply ?? 'no answer'}{' '}
          <span className="text-ink-soft text-xs">
            after {took(tried.took_us)}, sent {tried.sends === 1 ? 'once' : `${tried.sends} times`}
          </span>
        </p>
        <table className="mt-1 text-xs">
          <tbody>
            {tried.attributes.map((attribute) => (
              <tr key={`${attribute.name} ${attribute.value}`} className="align-top [&>td]:pr-4">
                <td className="whitespace-nowrap text-ink-faint">{attribute.name}</td>
                <td className="break-all font-mono">{attribute.value}</td>
                <td className="text-ink-soft">{attribute.means}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {tried.trace?.cause && (
        <div className="border-ebb border-l-2 bg-ebb-wash px-4 py-2">
          <p>
            <strong className="font-mono font-semibold">{tried.trace.cause}</strong> {tried.trace.sentence}.
          </p>
          <p className="text-ink-soft">
            <span className="text-ink-faint">Remedy:</span> {tried.trace.remedy}.
          </p>
          {tried.trace.line_text && (
            <p className="font-mono text-ink-soft text-xs">
              line {tried.trace.line}: {tried.trace.line_text}
            </p>
          )}
        </div>
      )}
      {tried.trace && <Waterfall steps={tried.trace.steps} />}
    </>
  )
}
