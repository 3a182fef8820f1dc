import type { PersonState, RollOut } from '../../api/client'
import { LOOKS, STATES } from './states'

type Props = { rollOut: RollOut; chosen: PersonState | undefined; choose: (state: PersonState | undefined) => void }

/** The roll-out at a glance: everybody in one bar, by how far they are. A state is also a filter. */
export function RollOutBar({ rollOut, chosen, choose }: Props) {
  const counts = STATES.map((state) => ({ state, count: rollOut.states[state] ?? 0 })).filter(({ count }) => count > 0)
  const share = (count: number) => `${(100 * count) / Math.max(1, rollOut.people)}%`
  return (
    <section aria-label="Enrolment progress" data-testid="roll-out" className="border-rule border-b bg-sheet px-4 py-2">
      <div className="flex h-3 overflow-hidden rounded-sm" aria-hidden="true">
        {counts.map(({ state, count }) => (
          <div
            key={state}
            className={`${LOOKS[state].fill} border-sheet border-r last:border-r-0`}
            style={{ width: share(count) }}
          />
        ))}
      </div>
      <p className="mt-1.5 flex flex-wrap gap-x-1 gap-y-1 text-xs">
        {counts.map(({ state, count }) => (
          <button
            key={state}
            type="button"
            aria-pressed={state === chosen}
            title={LOOKS[state].means}
            onClick={() => choose(state === chosen ? undefined : state)}
            className="flex items-baseline gap-1.5 rounded border border-transparent px-1.5 py-0.5 hover:border-rule aria-pressed:border-ink-faint aria-pressed:bg-flood-wash"
          >
            <span className={LOOKS[state].text} aria-hidden="true">
              {LOOKS[state].mark}
            </span>
            <strong>{count}</strong>
            <span className="text-ink-soft">{LOOKS[state].word}</span>
          </button>
        ))}
        <span className="ml-auto py-0.5 text-ink-faint">{rollOut.people} people</span>
      </p>
    </section>
  )
}
