import type { Outcome } from '../api/client'

const LOOKS: Record<Outcome, { mark: string; colour: string }> = {
  accepted: { mark: '●', colour: 'text-flood' },
  challenged: { mark: '◐', colour: 'text-focus' },
  refused: { mark: '✕', colour: 'text-ebb' },
  silent: { mark: '○', colour: 'text-slack' },
}

/** What a person calls an outcome. */
export function outcomeWord(outcome: string) {
  if (outcome === 'silent') return 'no reply'
  return outcome === 'challenged' ? 'waiting' : outcome
}

/** An outcome by word, mark and colour. */
export function OutcomeMark({ outcome }: { outcome: Outcome }) {
  const { mark, colour } = LOOKS[outcome]
  return (
    <span className={`whitespace-nowrap ${colour}`}>
      <span aria-hidden="true" className="inline-block w-4">
        {mark}
      </span>
      {outcomeWord(outcome)}
    </span>
  )
}
