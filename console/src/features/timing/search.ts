/** What the Timing page shows, as it stands in the address. */
export type TimingSearch = { chain?: string; via?: string; way?: string }

export function readTiming(search: Record<string, unknown>): TimingSearch {
  const text = (key: string) => (typeof search[key] === 'string' ? String(search[key]) : undefined)
  return { chain: text('chain'), via: text('via'), way: text('way') }
}
