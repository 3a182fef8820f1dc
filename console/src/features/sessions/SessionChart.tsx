import type { ReactNode } from 'react'
import { words } from '../../api/client'
import { dayOf, timeOfDay } from '../../lib/format'
import { CHART_SPANS, type ChartSpan } from './search'
import { useSessionChart } from './useSessions'

const HEIGHT = 72

/** Open sessions over time, as steps above a line. */
export function SessionChart({ span, gateway, mark }: { span: ChartSpan; gateway?: string; mark: ReactNode }) {
  const chart = useSessionChart(span, gateway)
  const open = chart.data?.open ?? []
  const most = Math.max(1, ...open)
  const now = open.at(-1) ?? 0
  const at = (index: number) => (index / Math.max(1, open.length)) * 1_000
  const steps = open.map((count, index) => {
    const y = HEIGHT - (count / most) * (HEIGHT - 6)
    return `L${at(index)},${y} L${at(index + 1)},${y}`
  })
  const label = (micros: number) => (CHART_SPANS[span] > 86_400 ? dayOf(micros) : timeOfDay(micros).slice(0, 5))
  return (
    <figure className="px-4 pt-3 pb-1" data-testid="session-chart">
      <figcaption className="flex items-baseline gap-3 text-xs">
        <span className="text-ink-soft">
          Open sessions{gateway ? ` at ${gateway}` : ''}: <strong className="font-mono text-ink">{now}</strong> now,{' '}
          <span className="font-mono">{open.length ? most : 0}</span> at most in {span}
        </span>
        <span className="ml-auto">{mark}</span>
      </figcaption>
      {chart.isError && <p className="text-ebb">{words(chart.error)}</p>}
      <svg
        viewBox={`0 0 1000 ${HEIGHT}`}
        preserveAspectRatio="none"
        className="mt-1 h-[72px] w-full"
        role="img"
        aria-label={`Open sessions over ${span}: ${now} now`}
      >
        <path
          d={`M0,${HEIGHT} ${steps.join(' ')} L1000,${HEIGHT} Z`}
          className="fill-flood-wash stroke-flood"
          strokeWidth="1.5"
          vectorEffect="non-scaling-stroke"
        />
        <line
          x1="0"
          x2="1000"
          y1={HEIGHT - 0.5}
          y2={HEIGHT - 0.5}
          className="stroke-rule"
          vectorEffect="non-scaling-stroke"
        />
      </svg>
      {chart.data && (
        <p className="flex justify-between font-mono text-ink-faint text-xs">
          <span>{label(chart.data.since_us)}</span>
          <span>{label(chart.data.since_us + (chart.data.span_us * open.length) / 2)}</span>
          <span>now</span>
        </p>
      )}
    </figure>
  )
}
