import { useNavigate, useSearch } from '@tanstack/react-router'
import { LocateForm } from './LocateForm'
import { OneLogin } from './OneLogin'
import { Rehearsals } from './Rehearsals'
import { type ProveSearch, TOOLS, type Tool } from './search'

const NAMES: Record<Tool, { name: string; said: string }> = {
  rehearsals: { name: 'Rehearsals', said: 'Test logins with expected outcomes' },
  login: { name: 'Single login', said: 'Send one real RADIUS request' },
  locate: { name: 'Locate', said: 'Find the layer that fails' },
}

/** Proving: that the right people get in and the wrong ones do not, and where it breaks if not. */
export function ProvePage() {
  const search = useSearch({ from: '/prove' })
  const navigate = useNavigate({ from: '/prove' })
  const change = (part: Partial<ProveSearch>) => navigate({ search: (old) => ({ ...old, ...part }), replace: true })
  const tool = search.tool ?? 'rehearsals'
  return (
    <div className="flex h-full flex-col">
      <div role="tablist" aria-label="Tools" className="flex flex-wrap gap-x-6 border-rule border-b bg-sheet px-4 pt-2">
        {TOOLS.map((one) => (
          <button
            key={one}
            type="button"
            role="tab"
            aria-selected={one === tool}
            onClick={() => change({ tool: one })}
            className="border-transparent border-b-2 pb-1.5 text-left text-ink-soft hover:text-ink aria-selected:border-flood aria-selected:text-ink"
          >
            {NAMES[one].name}
            <span className="ml-2 text-ink-faint text-xs max-md:hidden">{NAMES[one].said}</span>
          </button>
        ))}
      </div>
      <div className="min-h-0 flex-1">
        {tool === 'rehearsals' && <Rehearsals open={search.run} show={(run) => change({ run })} />}
        {tool === 'login' && <OneLogin person={search.person} via={search.via} />}
        {tool === 'locate' && <LocateForm person={search.person} via={search.via} />}
      </div>
    </div>
  )
}
