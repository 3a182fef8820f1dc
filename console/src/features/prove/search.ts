/** What the address of the page says: which tool, and which run is open. */
export type ProveSearch = { tool?: Tool; run?: number; person?: string; via?: string }

export const TOOLS = ['rehearsals', 'login', 'locate'] as const
export type Tool = (typeof TOOLS)[number]

export function readProve(search: Record<string, unknown>): ProveSearch {
  const text = (key: string) => (typeof search[key] === 'string' && search[key] ? String(search[key]) : undefined)
  return {
    tool: TOOLS.find((tool) => tool === search.tool),
    run: Number.isInteger(search.run) ? Number(search.run) : undefined,
    person: text('person'),
    via: text('via'),
  }
}
