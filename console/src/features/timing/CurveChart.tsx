import { scaleLinear } from 'd3-scale'
import type { Curve } from '../../api/client'
import { span } from './span'

const WIDTH = 940
const HEIGHT = 210
const BOX = { left: 50, right: 14, top: 14, bottom: 24 }

type Props = { curve: Curve | undefined; progress: number | undefined; problem: string | undefined; now?: number }

/** The share of logins that would be let in, against one wait; the knee is where more of it brings no more. */
export function CurveChart({ curve, progress, problem, now }: Props) {
  const point = curve?.knee == null ? undefined : curve.points[curve.knee]
  return (
    <figure data-testid="curve" aria-label="success curve" className="min-w-0">
      <figcaption className="flex items-baseline gap-3 text-ink-soft text-xs">
        <span>
          Share of simulated logins accepted
          {curve && (
            <>
              , by <span className="font-mono">{curve.setting}</span>
            </>
          )}
        </span>
        <span aria-live="polite" className="ml-auto font-mono text-ink-faint">
          {progress !== undefined ? `Simulating: ${Math.round(progress * 100)}%` : ''}
        </span>
      </figcaption>
      {problem && <p className="text-ebb text-xs">{problem}</p>}
      {curve && <Chart curve={curve} now={now} />}
      {curve && (
        <p className="text-ink-soft text-xs" data-testid="knee">
          {point
            ? `◎ Best value: ${curve.in_seconds ? span(point.at * 1_000_000) : point.value}. ${(point.share * 100).toFixed(1)}% accepted, half of them within ${span(point.simulated.p50_us)}. Longer timeouts do not help.`
            : 'No effect in this range.'}
        </p>
      )}
    </figure>
  )
}

function Chart({ curve, now }: { curve: Curve; now?: number }) {
  const first = curve.points[0]?.at ?? 0
  const last = curve.points.at(-1)?.at ?? 1
  const x = scaleLinear([first, last], [BOX.left, WIDTH - BOX.right])
  const y = scaleLinear([0, 1], [HEIGHT - BOX.bottom, BOX.top])
  const unit = curve.in_seconds ? ' s' : ''
  const line = curve.points.map((point) => `${x(point.at)},${y(point.share)}`).join(' ')
  const knee = curve.knee == null ? undefined : curve.points[curve.knee]
  const here = now !== undefined && now >= first && now <= last ? now : undefined
  return (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={`curve by ${curve.setting}`} className="w-full">
      {[0, 0.5, 1].map((share) => (
        <g key={share}>
          <line x1={BOX.left} x2={WIDTH - BOX.right} y1={y(share)} y2={y(share)} className="stroke-rule" />
          <text x={BOX.left - 6} y={y(share) + 3.5} textAnchor="end" className="fill-ink-faint font-mono text-xs">
            {share * 100}%
          </text>
        </g>
      ))}
      {x.ticks(6).map((tick) => (
        <text key={tick} x={x(tick)} y={HEIGHT - 8} textAnchor="middle" className="fill-ink-faint font-mono text-xs">
          {tick}
          {unit}
        </text>
      ))}
      {here !== undefined && (
        <g>
          <line
            x1={x(here)}
            x2={x(here)}
            y1={BOX.top}
            y2={HEIGHT - BOX.bottom}
            className="stroke-ink-faint"
            strokeDasharray="3 3"
          />
          <text x={x(here) + 4} y={HEIGHT - BOX.bottom - 5} className="fill-ink-soft text-xs">
            Now
          </text>
        </g>
      )}
      <polyline points={line} fill="none" className="stroke-flood" strokeWidth={2} />
      {curve.points.map((point) => (
        <circle key={point.at} cx={x(point.at)} cy={y(point.share)} r={2.5} className="fill-flood">
          <title>{`${curve.in_seconds ? span(point.at * 1_000_000) : point.value}: ${(point.share * 100).toFixed(1)} %`}</title>
        </circle>
      ))}
      {knee && (
        <circle
          cx={x(knee.at)}
          cy={y(knee.share)}
          r={7}
          fill="none"
          className="stroke-ebb"
          strokeWidth={2}
          aria-label="Best value"
        />
      )}
    </svg>
  )
}
