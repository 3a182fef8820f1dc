import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useDeferredValue, useState } from 'react'
import { api, need, type PersonState, type PersonView, words } from '../../api/client'
import { useEvents } from '../../api/useEvents'
import { downloadCsv } from '../../lib/csv'
import { Button } from '../../ui/Button'
import { useSession } from '../session/useSession'
import { ImportPanel } from './ImportPanel'
import { PersonPanel } from './PersonPanel'
import { RollOutBar } from './RollOutBar'
import { LOOKS } from './states'

const SHOWN = 200

/** People known here: how far the roll-out is, who has which factor, who waits for what. One of them opens beside the list. */
export function PeoplePage() {
  const { q, state, open } = useSearch({ from: '/people' })
  const navigate = useNavigate({ from: '/people' })
  const queries = useQueryClient()
  const { session } = useSession()
  const [importing, setImporting] = useState(false)
  const change = (part: Partial<{ q: string; state: typeof state; open: string }>) =>
    navigate({ search: (old) => ({ ...old, ...part }), replace: true })
  const wanted = useDeferredValue(q)
  const people = useQuery({
    queryKey: ['people', 'list', wanted, state],
    queryFn: async () =>
      need(await api.GET('/api/v1/people', { params: { query: { search: wanted, state, limit: SHOWN + 1 } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  })
  const rollOut = useQuery({
    queryKey: ['people', 'roll-out'],
    queryFn: async () => need(await api.GET('/api/v1/people/roll-out')),
    refetchInterval: 15_000,
  })
  const opened = useOpened(open)
  useEvents({
    onPerson: () => queries.invalidateQueries({ queryKey: ['people'] }),
    onMissed: () => queries.invalidateQueries({ queryKey: ['people'] }),
  })
  const found = people.data ?? []
  const beside = importing || opened
  return (
    <div className="flex h-full">
      <section aria-label="People" className={`flex min-w-0 flex-1 flex-col ${beside ? 'max-lg:hidden' : ''}`}>
        {rollOut.data && rollOut.data.people > 0 && (
          <RollOutBar rollOut={rollOut.data} chosen={state} choose={(chosen) => change({ state: chosen })} />
        )}
        <div className="flex flex-wrap items-center gap-2 border-rule border-b bg-sheet px-4 py-1.5 text-xs">
          <input
            type="search"
            defaultValue={q}
            onChange={(event) => change({ q: event.target.value.trim() || undefined })}
            placeholder="Search by name, group or source"
            aria-label="Search by name, group or source"
            className="w-72 rounded border border-rule bg-paper px-2.5 py-1 placeholder:text-ink-faint"
          />
          <span className="ml-auto" />
          <Button onClick={() => void exportAll(wanted, state)}>Export all matching users</Button>
          {session.data?.role !== 'view' && (
            <Button
              onClick={() => {
                change({ open: undefined })
                setImporting(true)
              }}
            >
              Import…
            </Button>
          )}
        </div>
        <div className="min-h-0 flex-1 overflow-y-auto">
          <PeopleTable
            people={found.slice(0, SHOWN)}
            selected={open}
            open={(person) => {
              setImporting(false)
              change({ open: keyOf(person) })
            }}
          />
          {found.length > SHOWN && (
            <p className="p-3 text-center text-ink-faint text-xs">
              Showing the first {SHOWN}. Search to narrow the list.
            </p>
          )}
          {people.isSuccess && found.length === 0 && <Empty filtered={Boolean(wanted || state)} />}
          {people.isError && <p className="p-6 text-ebb">{words(people.error)}</p>}
        </div>
      </section>
      {importing && <ImportPanel close={() => setImporting(false)} />}
      {!importing && opened && <PersonPanel key={open} person={opened} close={() => change({ open: undefined })} />}
    </div>
  )
}

/** The person that is open, whatever the list is narrowed to. */
function useOpened(open: string | undefined): PersonView | undefined {
  const [source = '', login = ''] = open ? [open.slice(0, open.indexOf(':')), open.slice(open.indexOf(':') + 1)] : []
  const person = useQuery({
    queryKey: ['people', 'one', open],
    enabled: Boolean(login),
    queryFn: async () => {
      const found = need(await api.GET('/api/v1/people/{login}', { params: { path: { login } } }))
      return found.find((one) => one.source === source) ?? null
    },
  })
  return open ? (person.data ?? undefined) : undefined
}

function exportList(people: PersonView[]) {
  const header = ['login', 'source', 'name', 'state', 'factors', 'groups']
  const factors = (person: PersonView) => person.factors.map((factor) => `${factor.kind} ${factor.label}`).join('; ')
  const rows = people.map((one) => [one.login, one.source, one.name, one.state, factors(one), one.groups.join('; ')])
  downloadCsv('people.csv', header, rows)
}

/** Everybody whom the filters leave, also beyond what is on screen. */
async function exportAll(search: string | undefined, state: PersonState | undefined) {
  exportList(need(await api.GET('/api/v1/people', { params: { query: { search, state } } })))
}

export function keyOf(person: PersonView) {
  return `${person.source}:${person.login}`
}

type TableProps = { people: PersonView[]; selected: string | undefined; open: (person: PersonView) => void }

function PeopleTable({ people, selected, open }: TableProps) {
  const head = 'sticky top-0 z-10 bg-paper px-2 py-1.5 font-normal'
  return (
    <table className="w-full border-separate border-spacing-0">
      <thead>
        <tr className="text-left text-ink-faint text-xs">
          <th className={`${head} pl-4`}>Login name</th>
          <th className={head}>Name</th>
          <th className={`${head} max-sm:hidden`}>Source</th>
          <th className={`${head} max-sm:hidden`}>Factors</th>
          <th className={`${head} pr-4`}>Status</th>
        </tr>
      </thead>
      <tbody>
        {people.map((person) => (
          <tr
            key={keyOf(person)}
            tabIndex={0}
            aria-current={keyOf(person) === selected}
            data-testid="person"
            data-person={keyOf(person)}
            onClick={() => open(person)}
            onKeyDown={(event) => event.key === 'Enter' && open(person)}
            className="cursor-pointer hover:bg-flood-wash aria-[current=true]:bg-flood-wash [&:nth-child(5n)>td]:border-rule [&>td]:border-rule-fine [&>td]:border-b [&>td]:px-2 [&>td]:py-[3px]"
          >
            <td className="!pl-4 whitespace-nowrap font-mono">{person.login}</td>
            <td className="max-w-52 truncate max-sm:max-w-28">{person.name}</td>
            <td className="whitespace-nowrap text-ink-soft max-sm:hidden">{person.source}</td>
            <td className="max-w-80 truncate max-sm:hidden">
              {person.factors.map((factor) => `${factor.kind} “${factor.label}”`).join(', ') || (
                <span className="text-ink-faint">None</span>
              )}
            </td>
            <td className="!pr-4 whitespace-nowrap">
              <StateOf person={person} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function StateOf({ person }: { person: PersonView }) {
  const { mark, word, means, text } = LOOKS[person.state]
  const wrong =
    person.lock && person.state !== 'locked' ? ` · ${person.lock.wrong} of ${person.lock.after} wrong codes` : ''
  const waits = person.state !== 'waiting' && person.factors.some((factor) => factor.state === 'waiting')
  const unchecked = person.passwords?.until_us ? 'passwords not checked' : 'Codes locked'
  const locked = person.stop ? 'Approvals stopped' : unchecked
  return (
    <span className={text} title={means}>
      <span aria-hidden="true">{mark}</span> {person.state === 'locked' ? locked : word}
      <span className="text-warn">
        {waits && ' · New device to confirm'}
        {wrong}
      </span>
    </span>
  )
}

function Empty({ filtered }: { filtered: boolean }) {
  return (
    <div className="p-8 text-center text-ink-soft">
      {filtered ? (
        <p>No users match. Directory users appear here once they are invited, synced or enrolled.</p>
      ) : (
        <>
          <p>No users yet. Import a CSV file above, or sync a directory group:</p>
          <code className="mt-2 inline-block rounded bg-rule-fine px-2 py-1 font-mono">
            bivector person sync DIRECTORY --group GROUP
          </code>
        </>
      )}
    </div>
  )
}
