import { scaleLinear } from 'd3-scale'
import type { Step } from '../../api/client'
import { took } from '../../lib/format'

const MARKS: Record<Step['tone'], { mark: string; word: string; text: string; bar: string }> = {
  good: { mark: '✓', word: 'good', text: 'text-flood', bar: 'bg-flood' },
  note: { mark: '·', word: 'note', text: 'text-ink-faint', bar: 'bg-ink-faint' },
  warn: { mark: '!', word: 'warning', text: 'text-slack', bar: 'bg-slack' },
  bad: { mark: '✕', word: 'failed', text: 'text-ebb', bar: 'bg-ebb' },
}

/** The steps of a login on one time axis, hop by hop from the gateway to the reply. */
export function Waterfall({ steps }: { steps: Step[] }) {
  const { x, ticks } = timeAxis(steps)
  return (
    <ol data-testid="waterfall" className="relative">
      <li
        aria-hidden="true"
        className="grid grid-cols-[64px_1fr_220px_64px] gap-x-2 border-rule-fine border-b max-sm:hidden px-4 py-1 text-[10px] text-ink-faint"
      >
        <span className="col-start-3 relative h-3 font-mono">
          {ticks.map((tick) => (
            <span
              key={tick}
              className="-translate-x-1/2 absolute whitespace-nowrap first:translate-x-0"
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

/** A refusal that is held until its pace would squeeze everything before it; the axis is then broken where the work ended. */
function timeAxis(steps: Step[]) {
  const end = (step: Step) => step.at_us + step.took_us
  const total = Math.max(1, ...steps.map(end))
  const held = steps.find((step) => step.what === 'held')
  if (!held || held.took_us < total / 2) {
    const x = scaleLinear([0, total], [0, 100])
    return { x, ticks: x.ticks(3) }
  }
  const worked = Math.max(1, held.at_us)
  const x = scaleLinear([0, worked, total], [0, 78, 100])
  const ticks = scaleLinear([0, worked], [0, 1]).ticks(2)
  return { x, ticks: [...ticks, total] }
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
          className={`absolute top-1.5 h-2 rounded-[1px] ${step.what === 'held' ? 'held' : look.bar}`}
          style={{ left: `${Math.min(x(step.at_us), 99.2)}%`, width: `${width}%` }}
        />
      </span>
      <span className="text-right font-mono text-ink-soft">{step.took_us === 0 ? '' : took(step.took_us)}</span>
      <span className="col-span-3 col-start-2 pb-1 pl-4 text-ink-soft text-xs">
        {step.said}
        {step.line != null && (
          <span className="ml-1 whitespace-nowrap text-ink-faint">· site file line {step.line}</span>
        )}
      </span>
    </li>
  )
}
