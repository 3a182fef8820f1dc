import type { KeyboardEvent } from 'react'
import type { TraceRow } from '../../api/client'
import { dayOf, isToday, timeOfDay, took } from '../../lib/format'
import { OutcomeMark } from '../../ui/OutcomeMark'

type Props = {
  rows: TraceRow[]
  arrived: Set<number>
  selected: string | undefined
  open: (row: TraceRow) => void
  /** Fewer columns, while a trace is open beside. */
  compact: boolean
}

/** The list, set like a tide table: one line a login, times aligned, a rule every fifth line. */
export function LoginTable({ rows, arrived, selected, open, compact }: Props) {
  const wide = compact ? 'hidden' : 'max-md:hidden'
  const head = 'sticky top-0 z-10 bg-paper px-2 py-1.5 font-normal'
  return (
    <table className="w-full border-separate border-spacing-0">
      <thead>
        <tr className="text-left text-ink-faint text-xs">
          <th className={`${head} pl-4`}>Time</th>
          <th className={head}>User</th>
          <th className={`${head} max-sm:hidden`}>Gateway</th>
          <th className={head}>Outcome</th>
          <th className={head}>Cause or grant</th>
          <th className={`${head} ${wide}`}>Source</th>
          <th className={`${head} text-right max-sm:hidden ${compact ? 'pr-4' : ''}`}>Duration</th>
          <th className={`${head} pr-4 text-right ${wide}`}>Reference</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr
            key={row.id}
            tabIndex={0}
            aria-current={row.reference === selected}
            data-reference={row.reference}
            data-testid="login"
            onClick={() => open(row)}
            onKeyDown={(event) => move(event, () => open(row))}
            className={`cursor-pointer hover:bg-flood-wash aria-[current=true]:bg-flood-wash [&>td]:border-rule-fine [&>td]:border-b [&>td]:px-2 [&>td]:py-[3px] [&:nth-child(5n)>td]:border-rule ${arrived.has(row.id) ? 'arrived' : ''}`}
          >
            <td className="whitespace-nowrap !pl-4 font-mono text-ink-soft">
              {!isToday(row.began_us) && <span className="text-ink-faint">{dayOf(row.began_us)} </span>}
              {timeOfDay(row.began_us)}
            </td>
            <td className="max-w-52 truncate">
              {row.login || '?'}
              {row.typed_name !== row.login && row.typed_name && (
                <span className="ml-2 text-ink-faint text-xs">{row.typed_name}</span>
              )}
            </td>
            <td className="whitespace-nowrap text-ink-soft max-sm:hidden">{row.gateway}</td>
            <td>
              <OutcomeMark outcome={row.outcome} />
            </td>
            <td className="whitespace-nowrap max-sm:whitespace-normal max-sm:break-words">
              {row.cause ?? <span className="text-ink-soft">{row.grant}</span>}
              {row.origin === 'rehearsal' && <span className="ml-2 text-slack text-xs">rehearsal</span>}
            </td>
            <td className={`text-ink-soft ${wide}`}>{row.source}</td>
            <td
              className={`whitespace-nowrap text-right font-mono text-ink-soft max-sm:hidden ${compact ? '!pr-4' : ''}`}
            >
              {row.outcome === 'silent' ? '–' : took(row.took_us)}
            </td>
            <td className={`!pr-4 text-right font-mono text-ink-faint ${wide}`}>{row.reference}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** Up and down go from line to line, Enter opens. */
function move(event: KeyboardEvent<HTMLTableRowElement>, open: () => void) {
  const line = event.currentTarget
  const to = { ArrowDown: line.nextElementSibling, ArrowUp: line.previousElementSibling }[event.key]
  if (event.key === 'Enter') open()
  if (to instanceof HTMLElement) {
    event.preventDefault()
    to.focus()
  }
}
