import type { ChainBudget, PathBudget } from '../../api/client'
import { endOf, Picture } from '../timing/Picture'

/** The waits of a chain as bars on one axis: of each gateway the way with the least to spare. Folded unless something does not nest. */
export function Waits({ budget }: { budget: ChainBudget | undefined }) {
  if (!budget || budget.paths.length === 0) return null
  const paths = tightest(budget.paths)
  const end = Math.max(...paths.map(endOf))
  const worse = budget.findings.filter((finding) => finding.weight !== 'note')
  return (
    <details data-testid="waits" className="mt-2" open={worse.length > 0}>
      <summary className="cursor-pointer text-ink-faint text-xs">
        waits{' '}
        {worse.length === 0 ? (
          <span className="text-flood">● nest</span>
        ) : (
          <span className="text-ebb">✕ {worse.length === 1 ? 'one does' : `${worse.length} do`} not nest</span>
        )}
        <a className="ml-3 hover:underline" href={`/timing?${new URLSearchParams({ chain: budget.chain })}`}>
          tune them
        </a>
      </summary>
      <div className="mt-1 grid grid-cols-2 gap-x-6 gap-y-2 max-lg:grid-cols-1">
        {paths.map((path) => (
          <div key={path.gateway}>
            <p className="text-[11px] text-ink-soft">
              {path.gateway}: {path.factor}
            </p>
            <Picture path={path} end={end} small />
          </div>
        ))}
      </div>
      {worse.map((finding) => (
        <p key={finding.code + finding.gateway + finding.message} className="text-ebb text-xs">
          ✕ {finding.message}
        </p>
      ))}
    </details>
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
