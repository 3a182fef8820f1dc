import { words } from '../../api/client'
import { fullTime } from '../../lib/format'
import { Button } from '../../ui/Button'
import { useKnocks } from './useKnocks'

/** One line about packets that were dropped without a reply: a wrong secret or an unknown address shows nowhere else. */
export function KnockLine({ shown, show }: { shown: boolean; show: (shown: boolean) => void }) {
  const knocks = useKnocks()
  const [last] = knocks.data ?? []
  if (!last) return null
  const count = knocks.data?.reduce((sum, knock) => sum + knock.count, 0) ?? 0
  return (
    <p
      data-testid="knock-line"
      className="flex flex-wrap items-center gap-x-3 gap-y-1 border-rule border-b bg-sheet px-4 py-1.5 text-ink-soft text-xs"
    >
      <span>
        {count.toLocaleString()} {count === 1 ? 'packet was' : 'packets were'} dropped without a reply. Last:{' '}
        <span className="font-mono">{last.cause}</span> from <span className="font-mono">{last.sender}</span>,{' '}
        {fullTime(last.last_us)}.
      </span>
      <Button className="ml-auto" aria-pressed={shown} onClick={() => show(!shown)}>
        {shown ? 'Show logins' : 'Show dropped packets'}
      </Button>
    </p>
  )
}

/** Dropped packets by sender and reason, with what to do about each. */
export function Knocks() {
  const knocks = useKnocks()
  const head = 'sticky top-0 z-10 bg-paper px-2 py-1.5 text-left font-normal'
  if (knocks.isError) return <p className="p-6 text-ebb">{words(knocks.error)}</p>
  if (knocks.data?.length === 0) return <p className="p-8 text-center text-ink-soft">No packets were dropped.</p>
  return (
    <table className="w-full border-separate border-spacing-0" data-testid="knocks">
      <thead>
        <tr className="text-ink-faint text-xs">
          <th className={`${head} pl-4`}>Last</th>
          <th className={head}>Sender</th>
          <th className={head}>Cause</th>
          <th className={`${head} text-right`}>Packets</th>
          <th className={`${head} pr-4 max-sm:hidden`}>Details</th>
        </tr>
      </thead>
      <tbody>
        {knocks.data?.map((knock) => (
          <tr
            key={`${knock.sender} ${knock.cause}`}
            className="align-top [&>td]:border-rule-fine [&>td]:border-b [&>td]:px-2 [&>td]:py-[3px]"
          >
            <td className="!pl-4 whitespace-nowrap text-ink-soft">{fullTime(knock.last_us)}</td>
            <td className="whitespace-nowrap font-mono">{knock.sender}</td>
            <td>
              <span className="text-ebb">{knock.cause}</span>
              {knock.gateway && <span className="text-ink-soft"> · {knock.gateway}</span>}
            </td>
            <td className="text-right font-mono">{knock.count.toLocaleString()}</td>
            <td className="!pr-4 text-ink-soft max-sm:hidden">
              {knock.said}
              {knock.guess && (
                <span className="block">
                  May be {knock.guess.gateway} with a new address: {knock.guess.why}. To accept it:{' '}
                  <code className="font-mono">
                    bivector gateway register {knock.sender} --as {knock.guess.gateway}
                  </code>
                </span>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
