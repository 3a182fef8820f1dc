import { useNavigate, useSearch } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import type { ChainView, HopView } from '../../api/client'
import { LineMark } from '../../ui/LineMark'
import { StateMark } from '../../ui/StateMark'
import { useBudgets } from '../timing/useTiming'
import { HopPanel } from './HopPanel'
import { useChains } from './useChains'
import { Waits } from './Waits'

const STATIONS = [
  { kind: 'gateway', title: 'gateways' },
  { kind: 'reading', title: 'reading' },
  { kind: 'source', title: 'first check' },
  { kind: 'factor', title: 'second' },
  { kind: 'rules', title: 'rules' },
] as const

/** Every chain from left to right as its hops, each with its live state; a hop opens on the reason behind it. */
export function ChainsPage() {
  const { open } = useSearch({ from: '/chains' })
  const navigate = useNavigate({ from: '/chains' })
  const { chains, line } = useChains()
  const budgets = useBudgets()
  const show = (key?: string) => navigate({ search: { open: key }, replace: true })
  const found = chains.data?.flatMap((chain) =>
    chain.hops.map((hop) => ({ key: keyOf(chain, hop), chain: chain.name, hop })),
  )
  const opened = found?.find((one) => one.key === open)
  return (
    <div className="flex h-full">
      <section aria-label="Chains" className={`min-w-0 flex-1 overflow-auto ${opened ? 'max-lg:hidden' : ''}`}>
        <div className="flex items-center justify-between px-4 pt-3 text-ink-faint text-xs">
          <span>A login goes from left to right. Open a hop to see why it is as it is.</span>
          <LineMark line={line} />
        </div>
        {chains.isError && <p className="p-6 text-ebb">{chains.error.message}</p>}
        {chains.data?.map((chain) => (
          <Chain key={chain.name} chain={chain} open={open} show={show}>
            <Waits budget={budgets.data?.find((budget) => budget.chain === chain.name)} />
          </Chain>
        ))}
        {chains.data?.length === 0 && (
          <p className="p-8 text-center text-ink-soft">
            No site is in force yet. Write one under{' '}
            <a className="underline" href="/site">
              Site
            </a>
            , or run <code className="rounded bg-rule-fine px-2 py-1 font-mono">bivector site apply FILE</code>
          </p>
        )}
      </section>
      {opened && <HopPanel key={opened.key} chain={opened.chain} hop={opened.hop} close={() => show()} />}
    </div>
  )
}

function keyOf(chain: ChainView, hop: HopView) {
  return `${chain.name}/${hop.kind}/${hop.name}`
}

type ChainProps = { chain: ChainView; open?: string; show: (key?: string) => void; children: ReactNode }

function Chain({ chain, open, show, children }: ChainProps) {
  const { accepted, refused, challenged, silent } = chain.logins
  return (
    <article data-testid="chain" aria-label={`chain ${chain.name}`} className="border-rule border-b px-4 py-3">
      <header className="mb-2 flex items-baseline gap-4">
        <h2 className="font-semibold text-base">{chain.name}</h2>
        <p className="text-ink-soft text-xs">
          last 24 h <Count n={accepted} word="accepted" colour="text-flood" />
          <Count n={challenged} word="waiting" colour="text-focus" />
          <Count n={refused} word="refused" colour="text-ebb" />
          <Count n={silent} word="silent" colour="text-slack" />
        </p>
        <a className="ml-auto text-ink-faint text-xs hover:underline" href={`/site?line=${chain.line}`}>
          line {chain.line}
        </a>
      </header>
      <ol className="grid grid-cols-5 gap-x-5 max-md:grid-cols-1 max-md:gap-y-3">
        {STATIONS.map(({ kind, title }, index) => (
          <li key={kind} className="relative min-w-0">
            <h3 className="mb-1 text-ink-faint text-xs">{title}</h3>
            {index > 0 && <Current />}
            <ul className="flex flex-col gap-1.5">
              {chain.hops
                .filter((hop) => hop.kind === kind)
                .map((hop) => (
                  <li key={hop.name + hop.details.join()}>
                    <Hop hop={hop} pressed={open === keyOf(chain, hop)} press={() => show(keyOf(chain, hop))} />
                  </li>
                ))}
            </ul>
          </li>
        ))}
      </ol>
      {children}
    </article>
  )
}

function Count({ n, word, colour }: { n: number; word: string; colour: string }) {
  return n === 0 ? null : (
    <span className="ml-3 whitespace-nowrap">
      <span className={`font-mono ${colour}`}>{n.toLocaleString()}</span> {word}
    </span>
  )
}

/** The line that leads from one station to the next. */
function Current() {
  return (
    <svg aria-hidden="true" className="-left-5 absolute top-8 h-3 w-5 text-ink-faint max-md:hidden" viewBox="0 0 24 12">
      <path d="M2 6 H20 M16 2.5 L20 6 L16 9.5" fill="none" stroke="currentColor" strokeWidth="1.2" />
    </svg>
  )
}

const EDGES = { good: 'border-l-flood', note: 'border-l-rule', warn: 'border-l-warn', bad: 'border-l-ebb' } as const

function Hop({ hop, pressed, press }: { hop: HopView; pressed: boolean; press: () => void }) {
  return (
    <button
      type="button"
      data-testid="hop"
      data-hop={hop.name}
      data-state={hop.state}
      aria-pressed={pressed}
      onClick={press}
      className={`block w-full rounded-sm border border-rule border-l-4 bg-sheet px-2 py-1 text-left hover:border-ink-faint ${EDGES[hop.state]} ${pressed ? '!border-ink-faint bg-flood-wash' : ''}`}
    >
      <span className="flex items-center gap-1.5">
        <StateMark state={hop.state} />
        <span className="truncate font-semibold">{hop.name}</span>
      </span>
      <span className="flex items-baseline gap-2 text-xs">
        <span className="line-clamp-2 text-ink-soft">{hop.said}</span>
        {hop.wait_ms != null && (
          <span className="ml-auto shrink-0 font-mono text-ink-faint">≤ {wait(hop.wait_ms)}</span>
        )}
      </span>
    </button>
  )
}

function wait(ms: number) {
  return ms < 1_000 ? `${ms} ms` : `${ms / 1_000} s`
}
