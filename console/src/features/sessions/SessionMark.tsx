import type { SessionRow } from '../../api/client'

/** Whether it goes on, and why not, so that colour never says it alone. */
export function SessionMark({ row }: { row: SessionRow }) {
  if (!row.ended_us) {
    return row.asked ? (
      <span className="text-slack">◐ Was asked to end</span>
    ) : (
      <span className="text-flood">● Open</span>
    )
  }
  return <span className="text-ink-soft">○ {row.why ?? 'ended'}</span>
}
