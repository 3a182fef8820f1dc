/** A time in microseconds, short. */
export function span(us: number): string {
  if (us < 1_000) return `${Math.round(us)} µs`
  if (us < 1_000_000) return `${Math.round(us / 1_000)} ms`
  if (us < 120_000_000) return `${Math.round(us / 100_000) / 10} s`
  return `${Math.floor(us / 60_000_000)} min ${Math.round((us / 1_000_000) % 60)} s`
}
