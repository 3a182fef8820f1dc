import { useState } from 'react'
import type { SettingView } from '../../api/client'
import type { Values } from './useTiming'

const STEPS = 1_000

type Props = {
  settings: SettingView[]
  values: Values
  swept: string | undefined
  change: (name: string, value: string | undefined) => void
  sweep: (name: string) => void
}

/** A slider and a number for every wait, from the outside in. */
export function Sliders({ settings, values, swept, change, sweep }: Props) {
  return (
    <ul aria-label="Timeouts">
      {settings.map((setting) => (
        <li key={setting.name} data-setting={setting.name} className="border-rule-fine border-b px-3 py-1">
          <div className="flex flex-wrap items-baseline gap-x-2">
            <span className="font-mono text-xs" title={setting.said}>
              {setting.name}
            </span>
            <span className="whitespace-nowrap text-xs text-ink-faint">
              {setting.on_device ? 'Set on the device' : ''}
            </span>
            <label className="ml-auto flex items-center gap-1 text-xs text-ink-faint">
              <input
                type="radio"
                name="swept"
                checked={swept === setting.name}
                onChange={() => sweep(setting.name)}
                aria-label={`curve by ${setting.name}`}
              />
              Plot
            </label>
            {values[setting.name] !== undefined && (
              <button
                type="button"
                className="text-xs text-ink-soft underline"
                onClick={() => change(setting.name, undefined)}
                aria-label={`Reset ${setting.name}`}
              >
                Reset
              </button>
            )}
          </div>
          <Control setting={setting} change={(value) => change(setting.name, value)} />
        </li>
      ))}
    </ul>
  )
}

/** The slider follows the hand at once; the value that counts comes back with the budget. */
function Control({ setting, change }: { setting: SettingView; change: (value: string) => void }) {
  const [typed, setTyped] = useState<string>()
  const [held, setHeld] = useState<number>()
  const number = held ?? setting.number ?? setting.least
  const move = (place: number) => {
    const value = valueAt(setting, place)
    setHeld(value)
    change(written(setting, value))
  }
  const enter = () => {
    if (typed !== undefined && typed !== setting.value) change(typed)
    setTyped(undefined)
    setHeld(undefined)
  }
  return (
    <div className="flex items-center gap-2">
      <input
        type="range"
        min={0}
        max={STEPS}
        value={placeOf(setting, number)}
        onChange={(event) => move(Number(event.target.value))}
        onPointerUp={() => setHeld(undefined)}
        onKeyUp={() => setHeld(undefined)}
        aria-label={setting.said}
        aria-valuetext={setting.value || 'not known'}
        className="min-w-0 flex-1 accent-flood"
      />
      <input
        value={typed ?? setting.value}
        placeholder="unknown"
        onChange={(event) => setTyped(event.target.value)}
        onBlur={enter}
        onKeyDown={(event) => event.key === 'Enter' && enter()}
        aria-label={`${setting.name}, as a number`}
        className="w-20 rounded border border-rule bg-paper px-1.5 py-0.5 text-right font-mono text-xs"
      />
    </div>
  )
}

/** Times lie on a logarithmic scale: seconds matter as much at ten as minutes at six hundred. */
function placeOf({ least, most, in_seconds }: SettingView, value: number): number {
  if (!in_seconds) return ((value - least) / (most - least)) * STEPS
  return (Math.log(value / least) / Math.log(most / least)) * STEPS
}

function valueAt({ least, most, in_seconds }: SettingView, place: number): number {
  if (!in_seconds) return Math.round(least + ((most - least) * place) / STEPS)
  const value = least * (most / least) ** (place / STEPS)
  const step = value < 1 ? 0.05 : value < 10 ? 0.5 : value < 60 ? 1 : 5
  return Math.min(most, Math.max(least, Math.round(value / step) * step))
}

function written({ in_seconds }: SettingView, value: number): string {
  if (!in_seconds) return String(value)
  return Number.isInteger(value) ? `${value}s` : `${Math.round(value * 1_000)}ms`
}
