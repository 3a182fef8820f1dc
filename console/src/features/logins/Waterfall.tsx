import { scaleLinear } from 'd3-scale'
import type { Step } from '../../api/client'
import { took } from '../../lib/format'

const MARKS: Record<Step['tone'], { mark: string; word: string; text: string; bar: string }> = {
  good: { mark: '✓', word: 'OK', text: 'text-flood', bar: 'bg-flood' },
  note: { mark: '·', word: 'Info', text: 'text-ink-faint', bar: 'bg-ink-faint' },
  warn: { mark: '!', word: 'Warning', text: 'text-slack', bar: 'bg-slack' },
  bad: { mark: '✕', word: 'Failed', text: 'text-ebb', bar: 'bg-ebb' },
}

/** The steps of a login on one time axis, hop by hop from the gateway to the reply. */
export function Waterfall({ steps }: { steps: Step[] }) {
  const { x, ticks, cuts, labels } = timeAxis(steps)
  return (
    <ol data-testid="waterfall" className="relative">
      <li
        aria-hidden="true"
        className="grid grid-cols-[64px_1fr_220px_64px] gap-x-2 border-rule-fine border-b max-sm:hidden px-4 py-1 text-xs text-ink-faint"
      >
        <span className="col-start-3 relative h-3 font-mono">
          {labels.map((tick) => (
            <span
              key={tick}
              className={`absolute whitespace-nowrap ${tick === 0 ? '' : cuts.includes(tick) ? '-translate-x-full pr-1' : '-translate-x-1/2'}`}
              style={{ left: `${x(tick)}%` }}
            >
              {tick === 0 ? '0' : took(Math.round(tick))}
            </span>
          ))}
        </span>
      </li>
      {steps.map((step, index) => (
        <Row
          // biome-ignore lint/suspicious/noArrayIndexKey: steps have no names of their own and never move
          key={index}
          step={step}
          first={steps[index - 1]?.hop !== step.hop}
          x={x}
          ticks={ticks}
        />
      ))}
    </ol>
  )
}

/** Steps that only wait: a refusal until its pace, a prompt until its answer. */
const WAITS = ['held', 'waiting', 'unanswered']
/** The share of the axis, in percent, that a long wait gets. */
const CUT = 14

/** Long waits would squeeze everything else, so the axis is cut short where they are. */
function timeAxis(steps: Step[]) {
  const end = (step: Step) => step.at_us + step.took_us
  const total = Math.max(1, ...steps.map(end))
  const cuts = steps.filter((step) => WAITS.includes(step.what) && step.took_us > total / 8).slice(0, 3)
  const worked = Math.max(1, total - cuts.reduce((sum, step) => sum + step.took_us, 0))
  const share = (100 - cuts.length * CUT) / worked
  const domain = [0]
  const range = [0]
  const to = (at: number, place: number) => {
    if (at > (domain.at(-1) ?? 0)) {
      domain.push(at)
      range.push(place)
    }
  }
  for (const cut of cuts) {
    const from = (range.at(-1) ?? 0) + (cut.at_us - (domain.at(-1) ?? 0)) * share
    to(cut.at_us, from)
    to(end(cut), from + CUT)
  }
  to(total, 100)
  const x = scaleLinear(domain, range)
  const starts = cuts.map((cut) => cut.at_us)
  const ticks = cuts.length === 0 ? x.ticks(3) : [0, ...starts, total].filter((at, i, all) => all.indexOf(at) === i)
  // A label needs a fifth of the axis; the end is always named.
  const labels = ticks.filter(
    (tick, i) => i === 0 || tick === total || (x(tick) > 20 && x(tick) - x(ticks[i - 1] ?? 0) >= 20),
  )
  return { x, ticks, cuts: starts, labels }
}

type RowProps = { step: Step; first: boolean; x: (value: number) => number; ticks: number[] }

function Row({ step, first, x, ticks }: RowProps) {
  const look = MARKS[step.tone]
  const width = Math.max(x(step.at_us + step.took_us) - x(step.at_us), 0.8)
  return (
    <li
      data-testid="step"
      className={`grid grid-cols-[64px_1fr_220px_64px] gap-x-2 px-4 pt-1 max-sm:grid-cols-[56px_1fr_72px_60px] ${first ? 'border-rule-fine border-t' : ''}`}
    >
      <span className="text-ink-faint">{first ? step.hop : ''}</span>
      <span className="truncate">
        <span className={`inline-block w-4 ${look.text}`} role="img" aria-label={look.word}>
          {look.mark}
        </span>
        {step.what}
      </span>
      <span className="relative h-5" aria-hidden="true">
        {ticks.map((tick) => (
          <span key={tick} className="absolute inset-y-0 w-px bg-rule-fine" style={{ left: `${x(tick)}%` }} />
        ))}
        <span
          className={`absolute top-1.5 h-2 rounded-[1px] ${WAITS.includes(step.what) ? 'held' : look.bar}`}
          style={{ left: `${Math.min(x(step.at_us), 99.2)}%`, width: `${width}%` }}
        />
      </span>
      <span className="text-right font-mono text-ink-soft">{step.took_us === 0 ? '' : took(step.took_us)}</span>
      <span className="col-span-3 col-start-2 pb-1 pl-4 text-ink-soft text-xs">
        {step.said}
        {step.line != null && (
          <span className="ml-1 whitespace-nowrap text-ink-faint">· Site file, line {step.line}</span>
        )}
      </span>
    </li>
  )
}
