import type { Suggestion, TimeFinding } from '../../api/client'
import { Button } from '../../ui/Button'
import type { Values } from './useTiming'

const MARKS = {
  breaks: { mark: '✕', word: 'Logins fail', colour: 'text-ebb', edge: 'border-l-ebb' },
  risks: { mark: '▲', word: 'Some logins may fail', colour: 'text-warn', edge: 'border-l-warn' },
  note: { mark: '○', word: 'Note', colour: 'text-ink-faint', edge: 'border-l-rule' },
} as const

type Props = {
  findings: TimeFinding[]
  notes: string[]
  suggestion: Suggestion
  take: (values: Values) => void
}

/** What does not nest, with its remedy, and the smallest change after which everything does. */
export function Findings({ findings, notes, suggestion, take }: Props) {
  return (
    <div data-testid="findings">
      {findings.length === 0 && <p className="px-3 py-2 text-flood">● All timeouts fit</p>}
      <ul>
        {findings.map((finding) => {
          const { mark, word, colour, edge } = MARKS[finding.weight]
          return (
            <li
              key={finding.code + finding.gateway + finding.way}
              data-code={finding.code}
              className={`border-rule-fine border-b border-l-4 px-3 py-1.5 ${edge}`}
            >
              <p className="text-xs">
                <span className={colour}>
                  <span aria-hidden="true">{mark}</span> <span className="font-mono">{finding.code}</span>
                </span>{' '}
                <span className="text-ink-faint">{word}</span>
              </p>
              <p>{finding.message}</p>
              <p className="text-ink-soft text-xs">
                {finding.remedy}
                {finding.setting && finding.value && (
                  <button
                    type="button"
                    className="ml-2 underline"
                    onClick={() => take({ [String(finding.setting)]: String(finding.value) })}
                  >
                    Try this value
                  </button>
                )}
              </p>
            </li>
          )
        })}
      </ul>
      {suggestion.changes.length > 0 && (
        <div className="bg-flood-wash px-3 py-2" data-testid="suggestion">
          <p className="text-xs">
            The smallest change that makes all timeouts fit, with {Math.round(suggestion.margin * 100)}% to spare:
          </p>
          <ul className="font-mono text-xs">
            {suggestion.changes.map((change) => (
              <li key={change.setting}>
                {change.setting}: {change.from || 'not stated'} → {change.to}
              </li>
            ))}
          </ul>
          <Button
            className="mt-1"
            onClick={() => take(Object.fromEntries(suggestion.changes.map((change) => [change.setting, change.to])))}
          >
            Try these values
          </Button>
        </div>
      )}
      {suggestion.left.map((left) => (
        <p key={left} className="px-3 py-1 text-ebb text-xs">
          ✕ {left}
        </p>
      ))}
      {notes.map((note) => (
        <p key={note} className="px-3 py-1 text-ink-soft text-xs">
          · {note}
        </p>
      ))}
    </div>
  )
}
