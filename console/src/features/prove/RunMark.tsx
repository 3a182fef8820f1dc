import type { RunState } from '../../api/client'

const LOOKS: Record<RunState, { mark: string; word: string; colour: string }> = {
  running: { mark: '◌', word: 'Running', colour: 'text-focus' },
  passed: { mark: '✓', word: 'Passed', colour: 'text-flood' },
  failed: { mark: '✕', word: 'Failed', colour: 'text-ebb' },
  interrupted: { mark: '–', word: 'Stopped', colour: 'text-slack' },
}

/** How a run ended, by mark, word and colour. */
export function RunMark({ state }: { state: RunState }) {
  const { mark, word, colour } = LOOKS[state]
  return (
    <span className={`whitespace-nowrap ${colour}`}>
      <span aria-hidden="true" className="inline-block w-4">
        {mark}
      </span>
      {word}
    </span>
  )
}

/** How far a run is: what came out as it must, what did not, what is to come. */
export function RunBar({ passed, failed, total }: { passed: number; failed: number; total: number }) {
  const part = (count: number) => `${(100 * count) / Math.max(1, total)}%`
  return (
    <span
      role="progressbar"
      aria-valuemin={0}
      aria-valuemax={total}
      aria-valuenow={passed + failed}
      aria-label={`${passed} of ${total} as expected, ${failed} not`}
      className="inline-flex h-2 w-32 overflow-hidden rounded-[1px] border border-rule bg-paper align-middle"
    >
      <span className="bg-flood" style={{ width: part(passed) }} />
      <span className="bg-ebb" style={{ width: part(failed) }} />
    </span>
  )
}
