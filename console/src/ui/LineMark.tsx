import type { Line } from '../api/useEvents'

/** Whether what is shown follows by itself. */
export function LineMark({ line }: { line: Line }) {
  return (
    <span
      data-testid="line"
      title={line === 'live' ? 'This page updates by itself' : 'Updates are paused; trying to reconnect'}
      className={line === 'live' ? 'text-flood' : 'text-ebb'}
    >
      {line === 'live' ? '● Live' : '○ Reconnecting…'}
    </span>
  )
}
