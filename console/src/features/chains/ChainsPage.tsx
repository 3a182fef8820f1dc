import { useNavigate, useSearch } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import type { ChainView, HopView } from '../../api/client'
import { words } from '../../api/client'
import { LineMark } from '../../ui/LineMark'
import { StateMark } from '../../ui/StateMark'
import { useBudgets } from '../timing/useTiming'
import { HopPanel } from './HopPanel'
import { useChains } from './useChains'
import { Waits } from './Waits'

const STATIONS = [
  { kind: 'gateway', title: 'Gateways' },
  { kind: 'reading', title: 'Parsing' },
  { kind: 'source', title: 'First factor' },
  { kind: 'factor', title: 'Second factor' },
  { kind: 'rules', title: 'Rules' },
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
          <span>A login passes from left to right. Select a step for its status and details.</span>
          <LineMark line={line} />
        </div>
        <Legend />
        {chains.isError && <p className="p-6 text-ebb">{words(chains.error)}</p>}
        {chains.data?.map((chain) => (
          <Chain key={chain.name} chain={chain} open={open} show={show}>
            <Waits budget={budgets.data?.find((budget) => budget.chain === chain.name)} />
          </Chain>
        ))}
        {chains.data?.length === 0 && (
          <p className="p-8 text-center text-ink-soft">
            No configuration applied yet. Create one under{' '}
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

/** What a first-time user needs to read the page. */
function Legend() {
  return (
    <details data-testid="legend" className="px-4 pt-1 text-ink-soft text-xs">
      <summary className="cursor-default text-ink-faint hover:text-ink">What do these columns and bars mean?</summary>
      <dl className="mt-1 grid max-w-4xl grid-cols-[auto_1fr] gap-x-4 gap-y-0.5 pb-1">
        <dt>Gateways</dt>
        <dd>The VPN gateways and portals that send logins to this chain.</dd>
        <dt>Parsing</dt>
        <dd>How the login name and the password field are read.</dd>
        <dt>First factor</dt>
        <dd>The sources that know the person and check the password.</dd>
        <dt>Second factor</dt>
        <dd>The codes, approvals or upstreams that prove the login a second time.</dd>
        <dt>Rules</dt>
        <dd>Who may log in, and what the gateway is told about them.</dd>
        <dt>Marks</dt>
        <dd className="flex flex-wrap gap-x-4">
          <span>
            <StateMark state="good" /> works
          </span>
          <span>
            <StateMark state="note" /> not used or checked yet
          </span>
          <span>
            <StateMark state="warn" /> needs attention
          </span>
          <span>
            <StateMark state="bad" /> failing
          </span>
        </dd>
        <dt>≤ 5 s</dt>
        <dd>The longest time a step can take; for a gateway, the time until it gives up.</dd>
        <dt>Bars</dt>
        <dd>
          Blue: how long the gateway waits. Grey: the longest time of each step. Green: the typical time. Hatched:
          waiting for the user. Crossed: after the gateway gave up.
        </dd>
      </dl>
    </details>
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
          Last 24 h: <Count n={accepted} word="accepted" colour="text-flood" />
          <Count n={challenged} word="waiting" colour="text-focus" />
          <Count n={refused} word="refused" colour="text-ebb" />
          <Count n={silent} word="no reply" colour="text-slack" />
        </p>
        <a className="ml-auto text-ink-faint text-xs hover:underline" href={`/site?line=${chain.line}`}>
          Site file, line {chain.line}
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
          <span
            title={hop.kind === 'gateway' ? 'Time until this gateway gives up' : 'Longest time this step can take'}
            className="ml-auto shrink-0 font-mono text-ink-faint"
          >
            ≤ {wait(hop.wait_ms)}
          </span>
        )}
      </span>
    </button>
  )
}

function wait(ms: number) {
  return ms < 1_000 ? `${ms} ms` : `${ms / 1_000} s`
}
