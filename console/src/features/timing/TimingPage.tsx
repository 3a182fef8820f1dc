import { useMutation } from '@tanstack/react-query'
import { useNavigate, useSearch } from '@tanstack/react-router'
import { useState } from 'react'
import { api, need, type PathBudget, type TimingView, words } from '../../api/client'
import { Button } from '../../ui/Button'
import { useChains } from '../chains/useChains'
import { ChoiceField } from '../prove/fields'
import { useSession } from '../session/useSession'
import { keepDraft } from '../site/useDraft'
import { CurveChart } from './CurveChart'
import { Findings } from './Findings'
import { Picture } from './Picture'
import { Sliders } from './Sliders'
import type { TimingSearch } from './search'
import { span } from './span'
import { useSimulation } from './useSimulation'
import { useTiming, type Values } from './useTiming'

/** The waits of a chain: one picture, a slider for each, what does not nest, and what simulated logins say. */
export function TimingPage() {
  const search = useSearch({ from: '/timing' })
  const navigate = useNavigate({ from: '/timing' })
  const { chains } = useChains()
  const [values, setValues] = useState<Values>({})
  const chain = search.chain ?? chains.data?.[0]?.name
  const timing = useTiming(chain, search.via, values)
  // A value that cannot be has no budget: the last one stays in sight, with the words that say what is wrong.
  const [last, setLast] = useState<TimingView>()
  if (timing.data && timing.data !== last) setLast(timing.data)
  const view = timing.data ?? (last?.chain === chain ? last : undefined)
  const show = (part: TimingSearch) => {
    if (part.chain) setValues({})
    navigate({ search: (old) => (part.chain ? { chain: part.chain } : { ...old, ...part }), replace: true })
  }
  if (chains.data?.length === 0) {
    return (
      <p className="p-8 text-center text-ink-soft">
        No configuration applied yet. Create one under{' '}
        <a className="underline" href="/site">
          Site
        </a>
        .
      </p>
    )
  }
  return (
    <div className="flex h-full flex-col">
      {timing.isError && (
        <p role="alert" className="bg-ebb-wash px-4 py-1.5 text-ebb">
          {words(timing.error)}{' '}
          <button type="button" className="underline" onClick={() => setValues({})}>
            Reset all
          </button>
        </p>
      )}
      {chain && view && (
        <Timing
          key={view.chain}
          chain={chain}
          chains={chains.data?.map((one) => one.name) ?? [chain]}
          view={view}
          search={search}
          show={show}
          values={values}
          setValues={setValues}
        />
      )}
    </div>
  )
}

type Props = {
  chain: string
  chains: string[]
  view: TimingView
  search: TimingSearch
  show: (part: TimingSearch) => void
  values: Values
  setValues: (values: Values) => void
}

function Timing({ chain, chains, view, search, show, values, setValues }: Props) {
  const paths = view.paths.filter((path) => path.method === view.paths[0]?.method || !sameWay(view.paths, path))
  // What is looked at stays, also when another way becomes the tightest one under the values that are tried.
  const [first] = useState(() => tightest(paths))
  const path = chosen(paths, search, first)
  const [swept, setSwept] = useState<string>()
  const others = view.gateways.filter((gateway) => gateway !== path?.gateway)
  const settings = view.settings.filter(
    (one) => !one.on_device || !others.some((other) => one.name.startsWith(`${other}.`)),
  )
  const by = settings.find((one) => one.name === swept) ?? settings.find((one) => one.name === `${path?.gateway}.wait`)
  const sweep = by && `${by.name}=${bounds(by.in_seconds, by.least, by.most, by.number ?? by.least)}`
  const { curve, progress, problem } = useSimulation(
    path && sweep ? { chain, via: path.gateway, way: path.way, set: values, sweep } : undefined,
  )
  const change = (name: string, value: string | undefined) => {
    const { [name]: _, ...others } = values
    setValues(value === undefined ? others : { ...others, [name]: value })
  }
  return (
    <>
      <div className="flex flex-wrap items-end gap-3 border-rule border-b bg-sheet px-4 py-2">
        <ChoiceField name="Chain" value={chain} options={chains} onChange={(name) => show({ chain: name })} />
        <ChoiceField
          name="Gateway"
          value={path?.gateway ?? ''}
          options={view.gateways}
          onChange={(via) => show({ via: undefined, way: `${via}/${path?.way ?? ''}` })}
        />
        <Field path={path} paths={paths} show={show} />
        <Draft
          chain={chain}
          values={values}
          reset={() => setValues({})}
          gateway={path?.gateway}
          onDevice={view.settings.filter((one) => one.on_device && values[one.name] !== undefined)}
        />
      </div>
      <p className="border-rule border-b px-4 py-1.5 text-ink-soft text-xs">
        Try other timeouts here; nothing changes until you create a draft and apply it. Each system must wait longer
        than everything behind it. The margin is the time left in the worst case, as a share of what is needed.
      </p>
      <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_22rem] max-lg:block max-lg:overflow-y-auto">
        <section aria-label="Timeline" className="min-w-0 overflow-y-auto px-4 py-3">
          {path ? (
            <>
              <Picture path={path} />
              <div className="mt-4">
                <CurveChart curve={curve} progress={progress} problem={problem} now={by?.number ?? undefined} />
              </div>
              <Others paths={paths} path={path} show={show} />
            </>
          ) : (
            <p className="text-ink-soft">No gateway uses this chain. {view.notes[0]}</p>
          )}
        </section>
        <aside aria-label="Timeouts" className="overflow-y-auto border-rule border-l bg-sheet max-lg:border-l-0">
          <Findings
            findings={view.findings}
            notes={view.notes}
            suggestion={view.suggestion}
            take={(taken) => setValues({ ...values, ...taken })}
          />
          <Sliders settings={settings} values={values} swept={by?.name} change={change} sweep={setSwept} />
        </aside>
      </div>
    </>
  )
}

/** Proofs and text wait for the same things: one method of each way is enough to look at. */
function sameWay(paths: PathBudget[], path: PathBudget): boolean {
  return paths.some((other) => other !== path && other.gateway === path.gateway && other.way === path.way)
}

/** The way that is asked for, or else the one that was looked at first. */
function chosen(paths: PathBudget[], search: TimingSearch, first: PathBudget | undefined): PathBudget | undefined {
  const [via, way] = search.way?.split('/') ?? [first?.gateway, first?.way]
  const exact = paths.find((path) => path.gateway === via && path.way === way)
  return exact ?? tightest(paths.filter((path) => path.gateway === via)) ?? tightest(paths)
}

/** The way with the least to spare. */
function tightest(paths: PathBudget[]): PathBudget | undefined {
  const spare = (path: PathBudget) => Math.min(...path.hops.map((hop) => hop.margin), Number.MAX_SAFE_INTEGER)
  return [...paths].sort((a, b) => spare(a) - spare(b) || b.worst_us - a.worst_us)[0]
}

/** A range around the present value: from where nobody gets in to where everybody does. */
function bounds(in_seconds: boolean, least: number, most: number, now: number): string {
  if (!in_seconds) return `${least}..${Math.min(most, 10)}`
  const text = (value: number) => `${Math.round(value * 1_000)}ms`
  return `${text(Math.max(least, Math.min(1, now)))}..${text(Math.min(most, Math.max(90, now * 1.2)))}`
}

function Field({ path, paths, show }: { path?: PathBudget; paths: PathBudget[]; show: Props['show'] }) {
  const of = paths.filter((one) => one.gateway === path?.gateway)
  return (
    <ChoiceField
      name="Second factor"
      value={path?.way ?? ''}
      options={of.map((one) => one.way)}
      onChange={(way) => show({ way: `${path?.gateway}/${way}` })}
    />
  )
}

/** The other ways of the chain, each with what it may take. */
function Others({ paths, path, show }: { paths: PathBudget[]; path: PathBudget; show: Props['show'] }) {
  if (paths.length < 2) return null
  return (
    <table className="mt-3 w-full text-xs" aria-label="Paths">
      <thead className="text-left text-ink-faint">
        <tr>
          <th className="font-normal">Gateway</th>
          <th className="font-normal">Second factor</th>
          <th className="font-normal">Typical</th>
          <th className="font-normal">Worst case</th>
          <th className="font-normal">Margin</th>
        </tr>
      </thead>
      <tbody>
        {paths.map((one) => {
          const spare = Math.min(...one.hops.map((hop) => hop.margin))
          return (
            <tr
              key={`${one.gateway}/${one.way}/${one.method}`}
              className={`border-rule-fine border-t ${one === path ? 'bg-flood-wash' : ''}`}
            >
              <td>{one.gateway}</td>
              <td>
                <button
                  type="button"
                  className="hover:underline"
                  onClick={() => show({ way: `${one.gateway}/${one.way}` })}
                >
                  {one.factor}
                </button>
              </td>
              <td className="font-mono">{span(one.usual_us)}</td>
              <td className="font-mono">{span(one.worst_us)}</td>
              <td className={`font-mono ${spare < 0 ? 'text-ebb' : ''}`}>
                {Number.isFinite(spare) ? `${spare < 0 ? '✕ ' : ''}${Math.round(spare * 100)}%` : 'Unknown'}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

/** From values that were tried out to a draft of the site file, and to what must be entered on the device. */
function Draft(props: {
  chain: string
  values: Values
  reset: () => void
  gateway?: string
  onDevice: TimingView['settings']
}) {
  const { chain, values, reset, gateway, onDevice } = props
  const { session } = useSession()
  const navigate = useNavigate()
  const mayChange = session.data?.role === 'change' || session.data?.role === 'own'
  const tried = Object.keys(values).length > 0
  const draft = useMutation({
    mutationFn: async () =>
      need(await api.POST('/api/v1/timing/{chain}/draft', { params: { path: { chain } }, body: { set: values } })),
    onSuccess: ({ text, revision }) => {
      keepDraft({ text, from: revision })
      navigate({ to: '/site', search: {} })
    },
  })
  return (
    <div className="ml-auto flex items-center gap-2">
      {draft.isError && <span className="text-ebb text-xs">{words(draft.error)}</span>}
      {tried && <Button onClick={reset}>Reset all</Button>}
      {onDevice.length > 0 && (
        <span data-testid="on-device" className="text-warn text-xs">
          Also set on the device: {onDevice.map((one) => `${one.name} = ${values[one.name]}`).join(', ')}
        </span>
      )}
      <Button
        disabled={!tried || !mayChange || draft.isPending}
        title={mayChange ? (tried ? undefined : 'Move a slider first') : 'Needs the role change'}
        onClick={() => draft.mutate()}
      >
        Create draft
      </Button>
      {gateway && (
        <a
          className="rounded border border-rule bg-sheet px-2.5 py-1 text-ink-soft hover:border-ink-faint hover:text-ink"
          href={`/timing/sheet?gateway=${encodeURIComponent(gateway)}`}
          target="_blank"
          rel="noreferrer"
        >
          Print handover sheet
        </a>
      )}
    </div>
  )
}
