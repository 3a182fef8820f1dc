import { useEffect, useState } from 'react'
import { type Answer, answers } from './history'
import { Part } from './parts'
import { currentLanguage, t } from './texts'

const WORDS = { approve: 'approved', deny: 'denied', 'not-me': 'reported' } as const

/** What was answered on this phone lately. `turn` changes with each answer. */
export function History({ turn }: { turn: number }) {
  const [all, setAll] = useState<Answer[]>([])
  // biome-ignore lint/correctness/useExhaustiveDependencies: read again when `turn` changes
  useEffect(() => {
    answers().then(setAll, () => {})
  }, [turn])
  const when = new Intl.DateTimeFormat(currentLanguage(), { dateStyle: 'short', timeStyle: 'short' })
  return (
    <Part title={t('Recent answers')}>
      {all.length === 0 && <p className="text-ink-soft">{t('No answers on this phone yet.')}</p>}
      <ul data-testid="answers" className="space-y-1">
        {all.slice(0, 5).map((answer) => (
          <li key={answer.at} className="flex flex-wrap justify-between gap-x-3">
            <span>
              {answer.decision === 'approve' ? '●' : '✕'} {t(WORDS[answer.decision])},{' '}
              {t('through {gateway}', { gateway: answer.gateway })}
              {answer.from && <span className="font-mono text-ink-soft"> {answer.from}</span>}
            </span>
            <time className="text-ink-soft" dateTime={new Date(answer.at).toISOString()}>
              {when.format(answer.at)}
            </time>
          </li>
        ))}
      </ul>
    </Part>
  )
}
