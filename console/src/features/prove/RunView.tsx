import { useMutation, useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import { api, type LoginResult, need, type Run, type RunChange, words } from '../../api/client'
import { fullTime, took } from '../../lib/format'
import { useEscape } from '../../lib/useEscape'
import { Button } from '../../ui/Button'
import { RunBar, RunMark } from './RunMark'

/** One run: what came of each login, what differs, what changed since the run before, reports to take along. */
export function RunView({ id, close }: { id: number; close: () => void }) {
  useEscape(close)
  const run = useQuery({
    queryKey: ['run', id],
    queryFn: async () => need(await api.GET('/api/v1/runs/{id}', { params: { path: { id } } })),
  })
  const ended = run.data !== undefined && run.data.state !== 'running'
  const compared = useQuery({
    queryKey: ['run', id, 'changes'],
    enabled: ended,
    retry: false,
    queryFn: async () => need(await api.GET('/api/v1/runs/{id}/changes', { params: { path: { id } } })),
  })
  const interrupt = useMutation({
    mutationFn: async () => {
      const answer = await api.DELETE('/api/v1/runs/{id}', { params: { path: { id } } })
      if (answer.error) need(answer)
    },
  })
  return (
    <aside
      aria-label={`run ${id}`}
      data-testid="run"
      className="flex w-[680px] shrink-0 flex-col overflow-y-auto border-rule border-l bg-sheet max-lg:w-full"
    >
      <div className="flex flex-wrap items-center gap-3 border-rule border-b px-4 py-2">
        <h2 className="font-semibold">
          {run.data?.rehearsal} <span className="font-mono text-ink-faint">run {id}</span>
        </h2>
        {run.data && <RunMark state={run.data.state} />}
        {run.data?.state === 'running' && (
          <Button onClick={() => interrupt.mutate()} disabled={interrupt.isPending}>
            Stop run
          </Button>
        )}
        <Button className="ml-auto" onClick={close} aria-label="Close">
          ✕
        </Button>
      </div>
      {run.isError && <p className="p-4 text-ebb">{words(run.error)}</p>}
      {run.data && <Facts run={run.data} ended={ended} />}
      {compared.data?.earlier && compared.data.changes.length > 0 && (
        <Changes changes={compared.data.changes} earlier={compared.data.earlier} />
      )}
      {compared.data?.earlier && compared.data.changes.length === 0 && (
        <p className="border-rule border-b px-4 py-1.5 text-ink-soft text-xs">
          Same results as run {compared.data.earlier.id}.
        </p>
      )}
      <ol>
        {run.data?.results.map((result) => (
          <Result key={`${result.title} ${result.turn}`} result={result} />
        ))}
      </ol>
    </aside>
  )
}

function Facts({ run, ended }: { run: Run; ended: boolean }) {
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1 border-rule border-b px-4 py-2 text-xs">
      <RunBar passed={run.passed} failed={run.failed} total={run.total} />
      <span>
        {run.passed} of {run.total} as expected
        {run.waits_for && <span className="text-ink-soft"> · waits for {run.waits_for}</span>}
      </span>
      <span className="text-ink-soft">
        {fullTime(run.began_us)} · {took(run.took_us)} · {run.revision ? `revision ${run.revision}` : 'a draft'} · by{' '}
        {run.operator}
        {run.without && ` · without ${run.without}`}
      </span>
      {ended && (
        <span className="ml-auto flex gap-2">
          {['html', 'json', 'junit'].map((format) => (
            <a
              key={format}
              className="rounded border border-rule px-2 py-0.5 text-ink-soft hover:border-ink-faint hover:text-ink"
              href={`/api/v1/runs/${run.id}/report?format=${format}`}
              download
            >
              Report ({format === 'html' ? 'HTML' : format === 'junit' ? 'JUnit' : 'JSON'})
            </a>
          ))}
        </span>
      )}
    </div>
  )
}

function Changes({ changes, earlier }: { changes: RunChange[]; earlier: Run }) {
  return (
    <div className="border-warn border-l-2 bg-warn-wash px-4 py-2" data-testid="changes">
      <p className="text-ink-soft text-xs">
        since run {earlier.id} ({earlier.revision ? `revision ${earlier.revision}` : 'a draft'},{' '}
        {fullTime(earlier.began_us)})
      </p>
      <ul>
        {changes.map((change) => (
          <li key={change.title}>
            {change.passes_now ? '✓' : '✕'} {change.title}: <span className="text-ink-soft">{change.was}</span> →{' '}
            {change.is}
          </li>
        ))}
      </ul>
    </div>
  )
}

function Result({ result }: { result: LoginResult }) {
  const passed = !result.error && result.differences.length === 0
  const seen = result.seen
  const came = seen ? [seen.outcome, seen.cause ?? seen.grant].filter(Boolean).join(': ') : 'Not run'
  return (
    <li
      data-testid="result"
      className={`grid grid-cols-[1.25rem_1fr_auto] gap-x-2 border-rule-fine border-b px-4 py-1 ${passed ? '' : 'bg-ebb-wash'}`}
    >
      <span className={passed ? 'text-flood' : 'text-ebb'} role="img" aria-label={passed ? 'Passed' : 'Failed'}>
        {passed ? '✓' : '✕'}
      </span>
      <span>
        {result.title}
        {result.turn > 1 && <span className="text-ink-faint"> ({result.turn})</span>}
        <span className="ml-2 text-ink-soft text-xs">
          {came}
          {seen?.factor && seen.factor_given && ` · ${seen.factor}`}
        </span>
      </span>
      <span className="whitespace-nowrap text-right font-mono text-ink-soft text-xs">
        {seen && took(seen.took_us)}{' '}
        {result.references.map((reference) => (
          <Link
            key={reference}
            to="/logins"
            search={{ open: reference, q: reference }}
            className="ml-1 text-ink-faint underline"
          >
            {reference}
          </Link>
        ))}
      </span>
      {result.error && <span className="col-start-2 text-ebb text-xs">{result.error}</span>}
      {result.differences.map((one) => (
        <span key={one.what} className="col-span-2 col-start-2 text-xs">
          {one.what}: expected <strong className="font-semibold">{one.wanted}</strong>, got{' '}
          <strong className="font-semibold">{one.seen}</strong>
          {result.line > 0 && (
            <Link to="/site" search={{ line: result.line }} className="ml-2 text-ink-faint underline">
              line {result.line}
            </Link>
          )}
        </span>
      ))}
    </li>
  )
}
