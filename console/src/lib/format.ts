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
