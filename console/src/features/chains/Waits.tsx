import type { ChainBudget, PathBudget } from '../../api/client'
import { Strip, stripEnd } from '../timing/Picture'
import { span } from '../timing/span'

/** The waits of a chain as bars on one time axis: of each gateway the way with the least to spare. */
export function Waits({ budget }: { budget: ChainBudget | undefined }) {
  if (!budget || budget.paths.length === 0) return null
  const paths = tightest(budget.paths)
  const end = Math.max(...paths.map(stripEnd))
  const worse = budget.findings.filter((finding) => finding.weight !== 'note')
  const unknown = paths.some((path) => !path.hops.some((hop) => hop.kind === 'gateway'))
  return (
    <div data-testid="waits" className="mt-2">
      <p className="flex items-baseline gap-3 text-ink-faint text-xs">
        <span>Timeouts</span>
        <State worse={worse.length} unknown={unknown} />
        <a className="hover:underline" href={`/timing?${new URLSearchParams({ chain: budget.chain })}`}>
          Open in Timing
        </a>
      </p>
      {paths.map((path) => (
        <Strip key={path.gateway} path={path} end={end} />
      ))}
      <div className="grid grid-cols-[9rem_1fr_11.5rem] gap-x-2 font-mono text-xs text-ink-faint">
        <span className="col-start-2 flex justify-between">
          <span>0</span>
          <span>{span(end)}</span>
        </span>
      </div>
      {worse.map((finding) => (
        <p key={finding.code + finding.gateway + finding.message} className="text-ebb text-xs">
          ✕ {finding.message}
        </p>
      ))}
    </div>
  )
}

function State({ worse, unknown }: { worse: number; unknown: boolean }) {
  if (worse > 0)
    return <span className="text-ebb">✕ {worse === 1 ? '1 timeout does' : `${worse} timeouts do`} not fit</span>
  return unknown ? (
    <span>○ No problem found; some gateway timeouts are unknown</span>
  ) : (
    <span className="text-flood">● Timeouts fit</span>
  )
}

function tightest(paths: PathBudget[]): PathBudget[] {
  const spare = (path: PathBudget) => Math.min(...path.hops.map((hop) => hop.margin), Number.MAX_SAFE_INTEGER)
  const best = new Map<string, PathBudget>()
  for (const path of paths) {
    const known = best.get(path.gateway)
    const tighter =
      !known || spare(path) < spare(known) || (spare(path) === spare(known) && path.worst_us > known.worst_us)
    if (tighter) best.set(path.gateway, path)
  }
  return [...best.values()]
}
