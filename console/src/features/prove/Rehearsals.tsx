import { useMutation, useQueryClient } from '@tanstack/react-query'
import { api, need, type RehearsalView, type Run, words } from '../../api/client'
import { fullTime, took } from '../../lib/format'
import { Button } from '../../ui/Button'
import { RunBar, RunMark } from './RunMark'
import { RunView } from './RunView'
import { Starter } from './Starter'
import { useRuns } from './useRuns'

type Props = { open: number | undefined; show: (run: number | undefined) => void }

/** The site's rehearsals, and the runs that were made of them. */
export function Rehearsals({ open, show }: Props) {
  const { rehearsals, runs } = useRuns()
  return (
    <div className="flex h-full">
      <section aria-label="Rehearsals" className={`min-w-0 flex-1 overflow-y-auto ${open ? 'max-lg:hidden' : ''}`}>
        {rehearsals.isError && <p className="p-4 text-ebb">{words(rehearsals.error)}</p>}
        <p className="border-rule-fine border-b px-4 py-1.5 text-ink-soft text-xs">
          A rehearsal is a list of test logins with the outcome each must have. A run uses the real sources: wrong
          passwords count at the directory, and codes by courier are really sent.
        </p>
        {rehearsals.data?.length === 0 && <Empty />}
        <ul>
          {rehearsals.data?.map((rehearsal) => (
            <Line key={rehearsal.name} rehearsal={rehearsal} runs={runs.data ?? []} show={show} />
          ))}
        </ul>
        <Starter />
        <RunList runs={runs.data ?? []} open={open} show={show} />
      </section>
      {open !== undefined && <RunView key={open} id={open} close={() => show(undefined)} />}
    </div>
  )
}

function Empty() {
  return (
    <div className="p-6 text-ink-soft">
      <p>No rehearsals yet. To create one:</p>
      <ol className="mt-1 list-decimal pl-6">
        <li>Add test users (personas) to the site file.</li>
        <li>Generate a rehearsal below and add it to the draft.</li>
        <li>Apply the draft.</li>
      </ol>
    </div>
  )
}

function Line({ rehearsal, runs, show }: { rehearsal: RehearsalView; runs: Run[]; show: Props['show'] }) {
  const queries = useQueryClient()
  const run = useMutation({
    mutationFn: async () =>
      need(
        await api.POST('/api/v1/rehearsals/{name}/runs', {
          params: { path: { name: rehearsal.name } },
          body: { repeat: null, parallel: null },
        }),
      ),
    onSuccess: (begun) => {
      void queries.invalidateQueries({ queryKey: ['runs'] })
      show(begun.id)
    },
  })
  const last = runs.find((one) => one.rehearsal === rehearsal.name && !one.without)
  const under = last?.state === 'running'
  return (
    <li
      data-testid="rehearsal"
      className="flex flex-wrap items-center gap-x-4 gap-y-1 border-rule-fine border-b px-4 py-2"
    >
      <span className="min-w-40">
        <strong className="font-semibold">{rehearsal.name}</strong>
        <span className="ml-2 text-ink-faint text-xs">
          {rehearsal.logins.length} logins · line {rehearsal.line}
        </span>
      </span>
      {last ? (
        <button type="button" className="flex items-center gap-2 text-xs hover:underline" onClick={() => show(last.id)}>
          <RunMark state={last.state} />
          <RunBar passed={last.passed} failed={last.failed} total={last.total} />
          <span className="font-mono text-ink-soft">
            {last.passed} of {last.total}
          </span>
          <span className="text-ink-faint">
            {under
              ? last.waits_for && `waits for ${last.waits_for}`
              : `${last.revision ? '' : 'a draft, '}${fullTime(last.began_us)}`}
          </span>
        </button>
      ) : (
        <span className="text-ink-faint text-xs">Not run yet</span>
      )}
      <Button className="ml-auto !border-flood" disabled={run.isPending || under} onClick={() => run.mutate()}>
        {under ? 'Running…' : 'Run'}
      </Button>
      {run.isError && <p className="basis-full text-ebb">{words(run.error)}</p>}
    </li>
  )
}

function RunList({ runs, open, show }: { runs: Run[]; open: number | undefined; show: Props['show'] }) {
  if (runs.length === 0) return null
  const head = 'px-2 py-1.5 text-left font-normal'
  // Beside an open run there is room for what tells runs apart only.
  const wide = open === undefined ? 'max-md:hidden' : 'hidden'
  return (
    <table className="mt-2 w-full border-separate border-spacing-0" data-testid="runs">
      <caption className="px-4 pt-2 text-left text-ink-faint text-xs">Runs</caption>
      <thead>
        <tr className="text-ink-faint text-xs">
          <th className={`${head} pl-4`}>Run</th>
          <th className={head}>Rehearsal</th>
          <th className={head}>Started</th>
          <th className={head}>Result</th>
          <th className={head}>Passed</th>
          <th className={`${head} ${wide}`}>Duration</th>
          <th className={`${head} ${wide}`}>Configuration</th>
          <th className={`${head} pr-4 ${wide}`}>Operator</th>
        </tr>
      </thead>
      <tbody>
        {runs.map((run) => (
          <tr
            key={run.id}
            tabIndex={0}
            aria-current={run.id === open}
            onClick={() => show(run.id)}
            onKeyDown={(event) => event.key === 'Enter' && show(run.id)}
            className="cursor-pointer hover:bg-flood-wash aria-[current=true]:bg-flood-wash [&:nth-child(5n)>td]:border-rule [&>td]:border-rule-fine [&>td]:border-b [&>td]:px-2 [&>td]:py-[3px]"
          >
            <td className="!pl-4 font-mono">{run.id}</td>
            <td>
              {run.rehearsal}
              {run.without && <span className="ml-2 text-slack text-xs">Drill: without {run.without}</span>}
            </td>
            <td className="whitespace-nowrap text-ink-soft">{fullTime(run.began_us)}</td>
            <td>
              <RunMark state={run.state} />
            </td>
            <td className="whitespace-nowrap font-mono">
              {run.passed} of {run.total}
            </td>
            <td className={`whitespace-nowrap font-mono text-ink-soft ${wide}`}>{took(run.took_us)}</td>
            <td className={`text-ink-soft ${wide}`}>{run.revision ? `revision ${run.revision}` : 'Draft'}</td>
            <td className={`!pr-4 text-ink-soft ${wide}`}>{run.operator}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
