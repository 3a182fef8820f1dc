import { useMutation } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api, type Health, type HopView, need, type ProbedServer, words } from '../../api/client'
import { fullTime, took } from '../../lib/format'
import { useEscape } from '../../lib/useEscape'
import { Button } from '../../ui/Button'
import { StateMark } from '../../ui/StateMark'
import { ReadingTester } from './ReadingTester'

type Props = { chain: string; hop: HopView; close: () => void }

/** One hop: how it is, since when, why, what to do; a directory's proof of every piece, and how a reading comes about. */
export function HopPanel({ chain, hop, close }: Props) {
  useEscape(close)
  const isDirectory = hop.servers.some((server) => server.server.startsWith('ldap'))
  return (
    <aside
      aria-label={hop.name}
      data-testid="hop-panel"
      className="flex w-[440px] shrink-0 flex-col overflow-y-auto border-rule border-l bg-sheet max-lg:w-full"
    >
      <div className="flex items-center gap-3 border-rule border-b px-4 py-2">
        <h2 className="font-semibold">{hop.name}</h2>
        <StateMark state={hop.state} withWord />
        <a className="ml-auto text-ink-faint text-xs hover:underline" href={`/site?line=${hop.line}`}>
          line {hop.line}
        </a>
        <Button onClick={close} aria-label="Close">
          ✕
        </Button>
      </div>
      <div className="border-rule border-b px-4 py-2">
        <p>{hop.said}</p>
        {hop.since_us != null && (
          <p className="text-ink-faint text-xs">
            {hop.kind === 'gateway' ? 'Last login:' : 'Since'} {fullTime(hop.since_us)}
          </p>
        )}
        {hop.remedy && (
          <p className="mt-1 text-ink-soft">
            <span className="text-ink-faint">Remedy:</span> {hop.remedy}.
          </p>
        )}
        {hop.details.map((detail) => (
          <p key={detail} className="text-ink-soft">
            {detail}
          </p>
        ))}
      </div>
      {hop.servers.length > 0 && <Servers servers={hop.servers} />}
      {isDirectory && <Probe name={hop.name} />}
      {hop.kind === 'reading' && <ReadingTester chain={chain} />}
    </aside>
  )
}

function Servers({ servers }: { servers: Health[] }) {
  return (
    <ul className="border-rule border-b px-4 py-2">
      {servers.map((server) => (
        <li key={server.server} className="py-1">
          <p className="flex items-center gap-2">
            <StateMark state={server.state} />
            <span className="truncate font-mono">{server.server}</span>
            <span className="ml-auto shrink-0 text-ink-faint text-xs">
              {server.answers} answered · {server.failures} failed
            </span>
          </p>
          <p className="text-ink-soft text-xs">
            {server.cause && <strong className="font-mono font-semibold">{server.cause} </strong>}
            {server.said}, since {fullTime(server.since_us)}; last checked {fullTime(server.checked_us)}
          </p>
        </li>
      ))}
    </ul>
  )
}

function Probe({ name }: { name: string }) {
  const [person, setPerson] = useState('')
  const probe = useMutation({
    mutationFn: async () =>
      need(
        await api.POST('/api/v1/directories/{name}/probe', {
          params: { path: { name } },
          body: { person: person.trim() || null },
        }),
      ),
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    probe.mutate()
  }
  return (
    <div className="px-4 py-2">
      <form onSubmit={submit} className="mb-2 flex gap-2">
        <input
          aria-label="User to look up"
          placeholder="User name (optional)"
          value={person}
          onChange={(event) => setPerson(event.target.value)}
          className="min-w-0 flex-1 rounded border border-rule bg-paper px-2 py-1"
        />
        <Button type="submit" disabled={probe.isPending}>
          {probe.isPending ? 'Checking…' : 'Run all checks'}
        </Button>
      </form>
      {probe.isError && <p className="text-ebb">{words(probe.error)}</p>}
      {probe.data?.map((server) => (
        <Lines key={server.server} server={server} />
      ))}
    </div>
  )
}

function Lines({ server }: { server: ProbedServer }) {
  return (
    <section data-testid="probe" className="mb-3">
      <h3 className="mb-1 font-mono text-xs">{server.server}</h3>
      <ul>
        {server.lines.map((line) => (
          <li
            key={line.piece}
            className="grid grid-cols-[1rem_5.5rem_1fr_auto] gap-x-2 border-rule-fine border-t py-0.5 text-xs"
          >
            <StateMark state={line.state} />
            <span className="text-ink-faint">{line.piece}</span>
            <span className={`min-w-0 [overflow-wrap:anywhere] ${line.state === 'note' ? 'text-ink-faint' : ''}`}>
              {line.cause && <strong className="font-mono font-semibold">{line.cause} </strong>}
              {line.said}
              {line.remedy && <span className="block text-ink-soft">Remedy: {line.remedy}</span>}
            </span>
            <span className="font-mono text-ink-faint">{line.took_us > 0 ? took(line.took_us) : ''}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}
