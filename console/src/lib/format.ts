const clock = new Intl.DateTimeFormat(undefined, {
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
  hourCycle: 'h23',
})
const day = new Intl.DateTimeFormat(undefined, { day: '2-digit', month: 'short' })
const full = new Intl.DateTimeFormat(undefined, {
  year: 'numeric',
  month: 'short',
  day: '2-digit',
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
  hourCycle: 'h23',
})

/** A time span in microseconds as people read it. */
export function took(micros: number): string {
  if (micros < 1_000) return `${micros} µs`
  if (micros < 10_000) return `${(micros / 1_000).toFixed(1)} ms`
  if (micros < 1_000_000) return `${Math.round(micros / 1_000)} ms`
  return `${(micros / 1_000_000).toFixed(2)} s`
}

export const timeOfDay = (micros: number) => clock.format(micros / 1_000)
export const dayOf = (micros: number) => day.format(micros / 1_000)
export const fullTime = (micros: number) => full.format(micros / 1_000)
export const isToday = (micros: number) => new Date(micros / 1_000).toDateString() === new Date().toDateString()

/** A number of bytes as people read it. */
export function size(bytes: number): string {
  if (bytes < 1_000) return `${bytes} B`
  const steps = ['kB', 'MB', 'GB', 'TB']
  const step = Math.min(steps.length - 1, Math.floor(Math.log10(bytes) / 3) - 1)
  return `${(bytes / 1_000 ** (step + 1)).toFixed(1)} ${steps[step]}`
}

/** How long something has lasted, as a clock shows it, with days where there are some. */
export function lasted(row: { began_us: number; ended_us?: number | null }): string {
  const seconds = Math.max(0, Math.floor(((row.ended_us ?? Date.now() * 1_000) - row.began_us) / 1_000_000))
  const two = (number: number) => String(number).padStart(2, '0')
  const clock = `${Math.floor(seconds / 3_600) % 24}:${two(Math.floor(seconds / 60) % 60)}:${two(seconds % 60)}`
  const days = Math.floor(seconds / 86_400)
  return days ? `${days} d ${clock}` : clock
}
