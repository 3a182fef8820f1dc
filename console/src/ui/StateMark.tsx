import type { Tone } from '../api/client'

const LOOKS: Record<Tone, { mark: string; word: string; colour: string }> = {
  good: { mark: '●', word: 'OK', colour: 'text-flood' },
  note: { mark: '○', word: 'Unknown', colour: 'text-ink-faint' },
  warn: { mark: '▲', word: 'Warning', colour: 'text-warn' },
  bad: { mark: '✕', word: 'Failing', colour: 'text-ebb' },
}

/** How something is, by mark and colour; the word is there for those who see neither. */
export function StateMark({ state, withWord = false }: { state: Tone; withWord?: boolean }) {
  const { mark, word, colour } = LOOKS[state]
  return (
    <span className={`relative whitespace-nowrap ${colour}`}>
      <span aria-hidden="true">{mark}</span>
      <span className={withWord ? 'ml-1' : 'sr-only'}>{word}</span>
    </span>
  )
}
