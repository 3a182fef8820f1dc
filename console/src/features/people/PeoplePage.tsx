import { useQuery } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { api, need, type PersonView, words } from '../../api/client'
import { PersonPanel } from './PersonPanel'

const SHOWN = 500

/** People known here: who has which factor, and whose codes are locked. One of them opens beside the list. */
export function PeoplePage() {
  const { q, open } = useSearch({ from: '/people' })
  const navigate = useNavigate({ from: '/people' })
  const change = (part: { q?: string; open?: string }) =>
    navigate({ search: (old) => ({ ...old, ...part }), replace: true })
  const people = useQuery({
    queryKey: ['people'],
    queryFn: async () => need(await api.GET('/api/v1/people')),
    refetchInterval: 5_000,
  })
  const all = people.data ?? []
  const wanted = (q ?? '').toLowerCase()
  const found = all.filter((person) => `${person.login} ${person.name} ${person.source}`.toLowerCase().includes(wanted))
  const opened = all.find((person) => keyOf(person) === open)
  return (
    <div className="flex h-full">
      <section aria-label="People" className={`flex min-w-0 flex-1 flex-col ${opened ? 'max-lg:hidden' : ''}`}>
        <div className="flex flex-wrap items-center gap-3 border-rule border-b bg-sheet px-4 py-1.5 text-xs">
          <input
            type="search"
            defaultValue={q}
            onChange={(event) => change({ q: event.target.value.trim() || undefined })}
            placeholder="name or source"
            aria-label="name or source"
            className="w-44 rounded border border-rule bg-paper px-2.5 py-1 placeholder:text-ink-faint"
          />
          <Figures people={all} />
        </div>
        <div className="min-h-0 flex-1 overflow-y-auto">
          <PeopleTable
            people={found.slice(0, SHOWN)}
            selected={open}
            open={(person) => change({ open: keyOf(person) })}
          />
          {found.length > SHOWN && (
            <p className="p-3 text-center text-ink-faint text-xs">
              {SHOWN} of {found.length} shown; search for the others
            </p>
          )}
          {people.isSuccess && found.length === 0 && <Empty filtered={Boolean(wanted)} />}
          {people.isError && <p className="p-6 text-ebb">{words(people.error)}</p>}
        </div>
      </section>
      {opened && <PersonPanel key={open} person={opened} close={() => change({ open: undefined })} />}
    </div>
  )
}

export function keyOf(person: PersonView) {
  return `${person.source}:${person.login}`
}

function Figures({ people }: { people: PersonView[] }) {
  const enrolled = people.filter((person) => person.factors.length > 0).length
  const proven = people.filter((person) => person.factors.some((factor) => factor.last_used_us != null)).length
  const locked = people.filter((person) => person.lock?.locked_until_us != null).length
  return (
    <p className="ml-auto text-ink-soft">
      {people.length} people · {enrolled} with a factor · {proven} proven by a login ·{' '}
      <span className={locked ? 'text-ebb' : ''}>{locked} locked</span>
    </p>
  )
}

type TableProps = { people: PersonView[]; selected: string | undefined; open: (person: PersonView) => void }

function PeopleTable({ people, selected, open }: TableProps) {
  const head = 'sticky top-0 z-10 bg-paper px-2 py-1.5 font-normal'
  return (
    <table className="w-full border-separate border-spacing-0">
      <thead>
        <tr className="text-left text-ink-faint text-xs">
          <th className={`${head} pl-4`}>login</th>
          <th className={head}>name</th>
          <th className={head}>source</th>
          <th className={head}>factors</th>
          <th className={`${head} pr-4`}>state</th>
        </tr>
      </thead>
      <tbody>
        {people.map((person) => (
          <tr
            key={keyOf(person)}
            tabIndex={0}
            aria-selected={keyOf(person) === selected}
            data-testid="person"
            data-person={keyOf(person)}
            onClick={() => open(person)}
            onKeyDown={(event) => event.key === 'Enter' && open(person)}
            className="cursor-pointer hover:bg-flood-wash aria-selected:bg-flood-wash [&:nth-child(5n)>td]:border-rule [&>td]:border-rule-fine [&>td]:border-b [&>td]:px-2 [&>td]:py-[3px]"
          >
            <td className="!pl-4 whitespace-nowrap font-mono">{person.login}</td>
            <td className="max-w-52 truncate">{person.name}</td>
            <td className="whitespace-nowrap text-ink-soft">{person.source}</td>
            <td className="max-w-80 truncate">
              {person.factors.map((factor) => `${factor.kind} “${factor.label}”`).join(', ') || (
                <span className="text-ink-faint">none yet</span>
              )}
            </td>
            <td className="!pr-4 whitespace-nowrap">
              <PersonState person={person} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function PersonState({ person }: { person: PersonView }) {
  if (person.disabled) return <span className="text-slack">○ disabled</span>
  if (person.lock?.locked_until_us != null) return <span className="text-ebb">✕ codes locked</span>
  if (person.lock) {
    return (
      <span className="text-warn">
        ▲ {person.lock.wrong} of {person.lock.after} wrong
      </span>
    )
  }
  return null
}

function Empty({ filtered }: { filtered: boolean }) {
  return (
    <div className="p-8 text-center text-ink-soft">
      {filtered ? (
        <p>Nobody fits. A directory’s people appear here once they have a factor.</p>
      ) : (
        <>
          <p>Nobody is known yet. Import people, or add a factor to somebody of a directory:</p>
          <code className="mt-2 inline-block rounded bg-rule-fine px-2 py-1 font-mono">
            bivector person import FILE.csv
          </code>
        </>
      )}
    </div>
  )
}
