import { scaleLinear, scaleTime } from 'd3-scale'
import { useEffect, useState } from 'react'
import type { TraceRow } from '../../api/client'
import type { Line } from '../../api/useEvents'
import { LineMark } from '../../ui/LineMark'

const MINUTES = 30
const BUCKET = 30_000
const HEIGHT = 90
const MIDDLE = 34
/** Longest bar, in pixels. */
const DEPTH = 24

type Bucket = { start: number; accepted: number; refused: number; silent: number }

/** The last half hour: accepted above the waterline, refused below it, silent as rings on the floor. */
export function TideStrip({ rows, line }: { rows: TraceRow[]; line: Line }) {
  const now = useNow(5_000)
  const [width, setWidth] = useState(900)
  const from = now - MINUTES * 60_000
  const buckets = gather(rows, from, now)
  const most = Math.max(4, ...buckets.map((bucket) => Math.max(bucket.accepted, bucket.refused)))
  const x = scaleTime([new Date(from), new Date(now)], [16, width - 16])
  const y = scaleLinear([0, most], [0, DEPTH])
  const bar = Math.max(2, x(BUCKET) - x(0) - 2)
  const total = (kind: 'accepted' | 'refused' | 'silent') => buckets.reduce((sum, bucket) => sum + bucket[kind], 0)
  const said = `Last 30 minutes: ${total('accepted')} accepted, ${total('refused')} refused, ${total('silent')} without a reply`
  return (
    <figure
      className="relative"
      ref={(element) => {
        if (element && Math.abs(element.clientWidth - width) > 1) setWidth(element.clientWidth)
      }}
    >
      <figcaption className="flex items-baseline gap-4 px-4 pt-2 text-xs">
        <LineMark line={line} />
        <span className="text-ink-faint">Last 30 min</span>
        <span className="text-flood">● {total('accepted')} accepted</span>
        <span className="text-ebb">✕ {total('refused')} refused</span>
        <span className="text-slack">○ {total('silent')} no reply</span>
      </figcaption>
      <svg width={width} height={HEIGHT} role="img" aria-label={said} className="block">
        {x.ticks(10).map((tick) => (
          <g key={tick.getTime()} transform={`translate(${x(tick)},0)`}>
            <line y1={6} y2={HEIGHT - 14} className="stroke-rule-fine" />
            <text y={HEIGHT - 3} textAnchor="middle" className="fill-ink-faint font-mono text-xs">
              {x.tickFormat(10, '%H:%M')(tick)}
            </text>
          </g>
        ))}
        <line x1={16} x2={width - 16} y1={MIDDLE} y2={MIDDLE} className="stroke-rule" />
        {buckets.map((bucket) => (
          <g key={bucket.start} transform={`translate(${x(bucket.start)},${MIDDLE})`}>
            {bucket.accepted > 0 && (
              <rect y={-y(bucket.accepted)} width={bar} height={y(bucket.accepted)} className="fill-flood" />
            )}
            {bucket.refused > 0 && <rect y={1} width={bar} height={y(bucket.refused)} className="fill-ebb" />}
            {bucket.silent > 0 && (
              <circle cx={bar / 2} cy={DEPTH + 8} r={2.5} className="fill-none stroke-slack" strokeWidth={1.5} />
            )}
          </g>
        ))}
      </svg>
    </figure>
  )
}

function gather(rows: TraceRow[], from: number, now: number): Bucket[] {
  const buckets = new Map<number, Bucket>()
  for (const row of rows) {
    const at = row.began_us / 1_000
    if (at < from || at > now + BUCKET) continue
    const start = Math.floor(at / BUCKET) * BUCKET
    const bucket = buckets.get(start) ?? { start, accepted: 0, refused: 0, silent: 0 }
    // A prompt decides nothing; the login that answers it is counted.
    if (row.outcome === 'challenged') continue
    bucket[row.outcome] += 1
    buckets.set(start, bucket)
  }
  return [...buckets.values()]
}

function useNow(every: number): number {
  const [now, setNow] = useState(Date.now())
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), every)
    return () => clearInterval(timer)
  }, [every])
  return now
}
