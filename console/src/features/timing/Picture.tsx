import type { PathBudget, TimeHop, TimeStage } from '../../api/client'
import { span } from './span'

const STAGES: Record<TimeStage['kind'], string> = {
  'fail-over': 'silent server',
  connect: 'connect',
  search: 'search',
  password: 'password check',
  upstream: 'answer',
  code: 'marked as used',
  courier: 'handed over',
  approval: 'approval',
}

type Row = { key: string; name: string; figures: string; conflict?: string; bars: Bar[] }
type Bar = { from: number; to: number; look: 'wait' | 'may' | 'usual' | 'people' | 'lost'; ticks?: number[] }

/** A way through a chain on one time axis: what waits in front, and under it what it waits for. */
export function Picture({ path }: { path: PathBudget }) {
  const rows = rowsOf(path)
  const last = endOf(path)
  const columns = 'grid-cols-[12rem_1fr_11.5rem]'
  return (
    <figure data-testid="picture" className="min-w-0">
      <ul>
        {rows.map((row) => (
          <li
            key={row.key}
            data-conflict={row.conflict !== undefined}
            className={`grid ${columns} items-center gap-x-2 py-px text-xs`}
          >
            <span className={`truncate ${row.conflict ? 'font-semibold text-ebb' : 'text-ink-soft'}`}>
              {row.conflict && <span aria-hidden="true">✕ </span>}
              {row.name}
            </span>
            <span className="relative block h-3.5 border-rule-fine border-x">
              {row.bars.map((bar) => (
                <BarMark key={`${bar.look}${bar.from}`} bar={bar} end={last} />
              ))}
            </span>
            <span className={`truncate font-mono ${row.conflict ? 'text-ebb' : 'text-ink-faint'}`}>
              {row.conflict ?? row.figures}
            </span>
          </li>
        ))}
      </ul>
      <div className={`grid ${columns} gap-x-2 font-mono text-xs text-ink-faint`}>
        <span className="col-start-2 flex justify-between">
          <span>0</span>
          <span>{span(last / 2)}</span>
          <span>{span(last)}</span>
        </span>
      </div>
    </figure>
  )
}

/** Where the axis of a way ends: with the last bar. */
export function endOf(path: PathBudget): number {
  return Math.max(1, ...rowsOf(path).flatMap((row) => row.bars.map((bar) => bar.to)))
}

/** The same without the person's program, which waits for far longer than the rest. */
export function stripEnd(path: PathBudget): number {
  return endOf({ ...path, hops: path.hops.filter((hop) => hop.kind !== 'client') })
}

/** The same in two lines: what the gateway waits, and all that it waits for. */
export function Strip({ path, end }: { path: PathBudget; end: number }) {
  const rows = rowsOf(path).filter((row) => row.key !== 'client')
  const waits = rows.filter((row) => row.bars.some((bar) => bar.look === 'wait'))
  const stages = rows.filter((row) => !waits.includes(row))
  const figures = waits[0]
  return (
    <div className="grid grid-cols-[9rem_1fr_11.5rem] items-center gap-x-2 text-xs leading-4">
      <span className="truncate text-ink-soft">{path.gateway}</span>
      <span>
        <span className="relative block h-2 border-rule-fine border-x">
          {waits.flatMap((row) => row.bars.map((bar) => <BarMark key={row.key + bar.from} bar={bar} end={end} />))}
        </span>
        <span className="relative block h-2.5 border-rule-fine border-x">
          {stages.flatMap((row) =>
            row.bars.map((bar) => (
              <BarMark key={row.key + bar.look} bar={bar} end={end} title={`${row.name} ${row.figures}`} />
            )),
          )}
        </span>
      </span>
      <span className={`truncate font-mono ${figures?.conflict ? 'text-ebb' : 'text-ink-faint'}`}>
        {figures ? (figures.conflict ? `✕ ${figures.conflict}` : figures.figures) : '○ Timeout unknown'}
      </span>
    </div>
  )
}

const LOOKS: Record<Bar['look'], string> = {
  wait: 'border-focus border-x-2 bg-[linear-gradient(var(--focus),var(--focus))] bg-[length:100%_2px] bg-center bg-no-repeat',
  may: 'border-paper border-r bg-rule',
  usual: 'bg-flood',
  people: 'held',
  lost: 'lost',
}

function BarMark({ bar, end, title }: { bar: Bar; end: number; title?: string }) {
  const at = (us: number) => `${Math.min(100, (us / end) * 100)}%`
  return (
    <>
      <span
        title={title}
        className={`absolute inset-y-0.5 min-w-[2px] ${LOOKS[bar.look]}`}
        style={{ left: at(bar.from), width: at(bar.to - bar.from) }}
      />
      {bar.ticks?.map((tick) => (
        <span key={tick} className="absolute inset-y-0 w-[2px] bg-focus" style={{ left: at(tick) }} />
      ))}
    </>
  )
}

function rowsOf(path: PathBudget): Row[] {
  const rows: Row[] = []
  const client = path.hops.find((hop) => hop.kind === 'client')
  const gateway = path.hops.find((hop) => hop.kind === 'gateway')
  if (client) rows.push(hopRow('client', 'VPN client', client, 0))
  let at = 0
  path.rounds.forEach((round, number) => {
    if (round.before) {
      const end = at + round.before.most_us
      rows.push({
        key: `gap${number}`,
        name: round.before.name,
        figures: `mostly ≤ ${span(round.before.most_us)}`,
        bars: [{ from: at, to: end, look: 'people' }],
      })
      at = end
    }
    const leaves = gateway ? at + gateway.patience_us : Number.POSITIVE_INFINITY
    if (gateway) rows.push(hopRow(`gateway${number}`, number ? `${gateway.name}, again` : gateway.name, gateway, at))
    for (const stage of round.stages) {
      const end = at + stage.worst_us
      rows.push({
        key: `${number}${stage.kind}${stage.name}`,
        name: `${stage.name} ${STAGES[stage.kind]}`,
        figures: `≤ ${span(stage.worst_us)}`,
        conflict: end > leaves && at < leaves ? 'Gateway timed out' : undefined,
        bars: stageBars(at, end, stage.usual_us, leaves),
      })
      at = end
    }
  })
  return rows
}

function hopRow(key: string, name: string, hop: TimeHop, from: number): Row {
  const early = hop.margin < 0
  const ticks = Array.from({ length: hop.tries - 1 }, (_, at) => from + hop.wait_us * (at + 1))
  const tries = hop.tries > 1 ? `${hop.tries} × ${span(hop.wait_us)}` : span(hop.patience_us)
  const figures = `${tries}  ${hop.margin >= 0 ? '+' : ''}${Math.round(hop.margin * 100)} %`
  return {
    key,
    name: hop.basis === 'measured' ? `${name} (as seen)` : name,
    figures,
    conflict: early ? `${tries}: too early` : undefined,
    bars: [{ from, to: from + hop.patience_us, look: 'wait', ticks }],
  }
}

/** As far as it usually takes, as far as it may, and what comes when the gateway has left. */
function stageBars(from: number, to: number, usual: number, leaves: number): Bar[] {
  const bars: Bar[] = [{ from, to: Math.min(to, Math.max(leaves, from)), look: 'may' }]
  if (usual > 0) bars.push({ from, to: Math.min(from + usual, to), look: 'usual' })
  if (to > leaves) bars.push({ from: Math.max(leaves, from), to, look: 'lost' })
  return bars.filter((bar) => bar.to > bar.from)
}
