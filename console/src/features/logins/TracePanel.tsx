import { useQuery } from '@tanstack/react-query'
import { Link } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import { api, need, type TraceView } from '../../api/client'
import { fullTime, took } from '../../lib/format'
import { useEscape } from '../../lib/useEscape'
import { Button } from '../../ui/Button'
import { OutcomeMark } from '../../ui/OutcomeMark'
import { Waterfall } from './Waterfall'

type Props = { reference: string; close: () => void }

/** One login: what came of it, why, what to do, and every step. */
export function TracePanel({ reference, close }: Props) {
  const trace = useQuery({
    queryKey: ['trace', reference],
    queryFn: async () => need(await api.GET('/api/v1/traces/{reference}', { params: { path: { reference } } })),
  })
  useEscape(close)
  return (
    <aside
      aria-label={`login ${reference}`}
      data-testid="trace"
      className="flex w-[600px] shrink-0 flex-col overflow-y-auto border-rule border-l bg-sheet max-lg:w-full"
    >
      <div className="flex items-center gap-3 border-rule border-b px-4 py-2">
        <h2 className="font-mono font-semibold">{reference}</h2>
        {trace.data && <OutcomeMark outcome={trace.data.outcome} />}
        <Button className="ml-auto" onClick={close} aria-label="close">
          ✕
        </Button>
      </div>
      {trace.isError && <p className="p-4 text-ebb">{trace.error.message}</p>}
      {trace.data && <Story trace={trace.data} />}
    </aside>
  )
}

function Story({ trace }: { trace: TraceView }) {
  return (
    <>
      {trace.cause && (
        <div
          className={`border-l-2 px-4 py-2 ${trace.outcome === 'silent' ? 'border-slack bg-slack-wash' : 'border-ebb bg-ebb-wash'}`}
        >
          <p>
            <strong className="font-mono font-semibold">{trace.cause}</strong> {trace.sentence}.
          </p>
          <p className="mt-0.5 text-ink-soft">
            <span className="text-ink-faint">Remedy:</span> {trace.remedy}.
          </p>
          {trace.line_text && (
            <p className="mt-0.5 truncate font-mono text-ink-soft text-xs">
              <Link to="/site" search={{ line: trace.line ?? undefined }} className="underline">
                line {trace.line}
              </Link>
              : {trace.line_text}
            </p>
          )}
          <p className="mt-1 text-xs">
            <Link
              to="/prove"
              search={{ tool: 'locate', person: trace.typed_name, via: trace.gateway }}
              className="text-ink-faint underline"
            >
              Find the failing layer
            </Link>
          </p>
        </div>
      )}
      <dl className="grid grid-cols-[auto_1fr_auto_1fr] gap-x-3 gap-y-0.5 border-rule border-b px-4 py-2 text-xs [&>dt]:text-ink-faint">
        <Fact name="Name as typed">{trace.typed_name || '–'}</Fact>
        <Fact name="User">{trace.person ?? '–'}</Fact>
        <Fact name="Gateway">{trace.gateway}</Fact>
        <Fact name="Source address">
          <span className="font-mono">{trace.sender}</span>
        </Fact>
        <Fact name="Chain">{trace.chain || '–'}</Fact>
        <Fact name="Method">{trace.method}</Fact>
        <Fact name="Grant">{trace.grant ?? '–'}</Fact>
        <Fact name="Second factor">{trace.factor ?? (trace.waived ? `Waived: ${trace.waived}` : '–')}</Fact>
        <Fact name="Revision">{trace.revision || 'a draft'}</Fact>
        <Fact name="Started">{fullTime(trace.began_us)}</Fact>
        <Fact name="Duration">{took(trace.took_us)}</Fact>
        {(trace.device ?? []).map((one) => (
          <Fact key={one.attribute} name={one.attribute}>
            <span className="font-mono">{one.value}</span>
          </Fact>
        ))}
      </dl>
      <Waterfall steps={trace.steps} />
    </>
  )
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt>{name}</dt>
      <dd className="min-w-0 truncate">{children}</dd>
    </>
  )
}
