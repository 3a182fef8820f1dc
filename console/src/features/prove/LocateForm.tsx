import { useMutation } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { type FormEvent, useState } from 'react'
import { api, type Ladder, need, type Rung, words } from '../../api/client'
import { took } from '../../lib/format'
import { Button } from '../../ui/Button'
import { StateMark } from '../../ui/StateMark'
import { useSession } from '../session/useSession'
import { TextField, type Whose, WhoseFields } from './fields'

/** Locating: the layers behind a login as a ladder, from the back of the chain up to its front. */
export function LocateForm(given: { person?: string; via?: string }) {
  const { session } = useSession()
  const gateways = session.data?.gateways ?? []
  const [typedIn, setTypedIn] = useState<Partial<Whose>>(given)
  const { person = '', via = gateways[0] ?? '', method = 'pap' } = typedIn
  const whose: Whose = { person, via, method }
  const change = (part: Partial<Whose>) => setTypedIn((old) => ({ ...old, ...part }))
  const [typed, setTyped] = useState('')
  const locate = useMutation({
    mutationFn: async () =>
      need(
        await api.POST('/api/v1/locate', {
          body: { ...whose, password: typed || null },
        }),
      ),
    onSettled: () => setTyped(''),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    locate.mutate()
  }
  return (
    <div className="grid h-full grid-cols-[minmax(16rem,22rem)_1fr] overflow-y-auto max-md:block">
      <form
        onSubmit={submit}
        className="flex flex-col gap-2 border-rule border-r bg-sheet p-4 max-md:border-r-0 max-md:border-b"
      >
        <WhoseFields whose={whose} gateways={gateways} change={change} />
        <TextField
          name="Password field (optional; skipped if empty)"
          type="password"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
        <div>
          <Button type="submit" className="!border-flood" disabled={locate.isPending || whose.person === ''}>
            {locate.isPending ? 'Checking…' : 'Locate'}
          </Button>
        </div>
        <p className="text-ink-faint text-xs">
          Other logins are not affected. No code is consumed, and at most one password attempt is made.
        </p>
      </form>
      <section aria-label="Layers" className="min-w-0 p-4">
        {locate.isError && <p className="text-ebb">{words(locate.error)}</p>}
        {locate.data && <LadderView ladder={locate.data} />}
        {!locate.data && !locate.isError && (
          <p className="p-2 text-ink-soft">
            Checks each layer in turn, from name resolution to the gateway's timeouts, and stops at the first that
            fails, with its remedy.
          </p>
        )}
      </section>
    </div>
  )
}

/** The rungs from the back, at the top, to the front; those that were not reached stay empty. */
function LadderView({ ladder }: { ladder: Ladder }) {
  return (
    <div data-testid="ladder">
      <p className="mb-3">
        {ladder.broken ? (
          <span className="text-ebb">
            ✕ Failed at <strong className="font-semibold">{ladder.broken}</strong>
          </span>
        ) : (
          <span className="text-flood">● All layers passed</span>
        )}
        <span className="ml-2 text-ink-soft text-xs">
          {ladder.person} via {ladder.via}
          {ladder.chain && ` → ${ladder.chain}`}
        </span>
      </p>
      <ol className="border-rule border-x-2 px-0">
        {ladder.rungs.map((rung) => (
          <RungView key={`${rung.layer} ${rung.about}`} rung={rung} />
        ))}
        {ladder.not_tried.map((layer) => (
          <li
            key={layer}
            className="grid grid-cols-[8rem_1fr] gap-x-3 border-rule-fine border-b border-dashed px-3 py-[3px] text-ink-faint"
          >
            <span>{layer}</span>
            <span className="text-xs">Not checked</span>
          </li>
        ))}
      </ol>
    </div>
  )
}

function RungView({ rung }: { rung: Rung }) {
  const broken = rung.state === 'bad'
  return (
    <li
      data-testid="rung"
      className={`grid grid-cols-[8rem_1fr_auto] gap-x-3 border-rule border-b px-3 py-1 ${broken ? 'bg-ebb-wash' : rung.state === 'warn' ? 'bg-warn-wash' : ''}`}
    >
      <span className={broken ? 'font-semibold' : ''}>
        <span className="mr-1 inline-block w-4">
          <StateMark state={rung.state} />
        </span>
        {rung.layer}
      </span>
      <span className="min-w-0">
        {rung.about && <span className="text-ink-faint">{rung.about}: </span>}
        {rung.said}
        {rung.line != null && (
          <Link
            to="/site"
            search={{ line: rung.line }}
            className="ml-2 whitespace-nowrap text-ink-faint text-xs underline"
          >
            line {rung.line}
          </Link>
        )}
        {rung.state !== 'good' && rung.cause && <span className="block font-mono text-xs">{rung.cause}</span>}
        {rung.state !== 'good' && rung.remedy && (
          <span className="block text-ink-soft">
            <span className="text-ink-faint">Remedy:</span> {rung.remedy}
          </span>
        )}
      </span>
      <span className="text-right font-mono text-ink-soft text-xs">{took(rung.took_us)}</span>
    </li>
  )
}
