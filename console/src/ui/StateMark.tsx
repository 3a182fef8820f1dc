import type { Tone } from '../api/client'

const LOOKS: Record<Tone, { mark: string; word: string; colour: string }> = {
  good: { mark: '●', word: 'well', colour: 'text-flood' },
  note: { mark: '○', word: 'not known', colour: 'text-ink-faint' },
  warn: { mark: '▲', word: 'look at it', colour: 'text-warn' },
  bad: { mark: '✕', word: 'down', colour: 'text-ebb' },
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
