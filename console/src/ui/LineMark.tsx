import type { Line } from '../api/useEvents'

/** Whether what is shown follows by itself. */
export function LineMark({ line }: { line: Line }) {
  return (
    <span data-testid="line" className={line === 'live' ? 'text-flood' : 'text-ebb'}>
      {line === 'live' ? '● live' : '○ connecting'}
    </span>
  )
}
