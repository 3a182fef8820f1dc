import { useSearch } from '@tanstack/react-router'
import { Tabs } from 'radix-ui'
import { useEffect, useRef, useState } from 'react'
import EXAMPLE from '../../../../docs/first-site.toml?raw'
import { type Finding, type Revision, words } from '../../api/client'
import { useEvents } from '../../api/useEvents'
import { Button } from '../../ui/Button'
import { useSession } from '../session/useSession'
import { ApplyForm } from './ApplyForm'
import { Changes } from './Changes'
import { Editor, type EditorHandle } from './Editor'
import { History } from './History'
import { useCheck, useDraft, useSite } from './useDraft'

/** The site file: edited, checked at its lines, compared, applied, and every revision before it. */
export function SitePage() {
  const site = useSite()
  useEvents({ onSite: () => void site.refetch(), onMissed: () => void site.refetch() })
  if (site.isError) return <p className="p-6 text-ebb">{words(site.error)}</p>
  return site.isPending ? null : <Draft site={site.data} />
}

function Draft({ site }: { site: Revision | null }) {
  const { session } = useSession()
  const { line } = useSearch({ from: '/site' })
  const { draft, differs, change, reset } = useDraft(site)
  const { check, pending } = useCheck(draft.text)
  const editor = useRef<EditorHandle>(null)
  const [tab, setTab] = useState('findings')
  const [applied, setApplied] = useState<number>()
  const mayChange = session.data?.role === 'change' || session.data?.role === 'own'
  const findings = check.data?.findings ?? []
  const load = (text: string) => {
    editor.current?.replace(text)
    setTab('findings')
  }
  const throwAway = () => {
    load(site?.text ?? '')
    reset()
  }
  useEffect(() => {
    if (line) editor.current?.goTo(line)
  }, [line])
  // Somebody else's revision came into force under a draft that has nothing of its own.
  useEffect(() => {
    if (!differs && site?.text) editor.current?.replace(site.text)
  }, [differs, site?.text])
  const moved = differs && site !== null && draft.from !== site.number
  return (
    <div className="flex h-full max-lg:flex-col">
      <section aria-label="Editor" className="flex min-h-0 min-w-0 flex-1 flex-col">
        <div className="flex items-center gap-3 border-rule border-b px-4 py-1.5 text-ink-soft text-xs">
          <span data-testid="draft-state">
            {differs
              ? `Draft, based on revision ${draft.from}`
              : site
                ? `Revision ${site.number} (active)`
                : 'No revision applied yet'}
          </span>
          {applied !== undefined && !differs && (
            <span className="text-flood">
              ● Revision {applied} applied ·{' '}
              <a className="underline" href="/logins">
                Watch logins
              </a>
            </span>
          )}
          {moved && (
            <span className="text-warn">
              ▲ Revision {site.number} was applied while you were editing. Compare before you apply.
            </span>
          )}
          {!mayChange && <span>Read-only: your role is {session.data?.role}.</span>}
          <span className="ml-auto flex items-center gap-2">
            {site === null && mayChange && <Button onClick={() => load(EXAMPLE)}>Start from an example</Button>}
            <a
              className="text-ink-faint hover:underline"
              href="/api/v1/site/reference"
              target="_blank"
              rel="noreferrer"
            >
              Reference ↗
            </a>
            {differs && <Button onClick={throwAway}>Discard draft</Button>}
          </span>
        </div>
        <div className="min-h-0 flex-1">
          <Editor
            ref={editor}
            text={draft.text}
            readOnly={!mayChange}
            findings={findings}
            onChange={(text) => change({ ...draft, text })}
          />
        </div>
        {differs && mayChange && (
          <ApplyForm draft={draft} sound={check.data?.sound === true && !pending} applied={setApplied} />
        )}
      </section>
      <aside
        aria-label="Draft details"
        className="flex w-[420px] shrink-0 flex-col overflow-hidden border-rule border-l bg-sheet max-lg:w-full max-lg:border-t"
      >
        <Tabs.Root value={tab} onValueChange={setTab} className="flex min-h-0 flex-1 flex-col">
          <Tabs.List aria-label="Draft details" className="flex border-rule border-b px-2">
            <Tab value="findings" name={`Findings ${findings.length || ''}`} />
            <Tab value="changes" name="Changes" />
            <Tab value="history" name="History" />
          </Tabs.List>
          <div className="min-h-0 flex-1 overflow-y-auto">
            <Tabs.Content value="findings">
              <Findings findings={findings} pending={pending} goTo={(at) => editor.current?.goTo(at)} />
            </Tabs.Content>
            <Tabs.Content value="changes">
              {site && differs ? (
                <Changes text={draft.text} against={site.number} />
              ) : (
                <p className="p-3 text-ink-soft">No changes. Edit the file to see what a change would do.</p>
              )}
            </Tabs.Content>
            <Tabs.Content value="history">
              <History current={site?.number ?? 0} load={load} mayChange={mayChange} />
            </Tabs.Content>
          </div>
        </Tabs.Root>
      </aside>
    </div>
  )
}

function Tab({ value, name }: { value: string; name: string }) {
  return (
    <Tabs.Trigger
      value={value}
      className="border-transparent border-b-2 px-2.5 py-1.5 text-ink-soft hover:text-ink data-[state=active]:border-flood data-[state=active]:text-ink"
    >
      {name}
    </Tabs.Trigger>
  )
}

type FindingsProps = { findings: Finding[]; pending: boolean; goTo: (line: number) => void }

function Findings({ findings, pending, goTo }: FindingsProps) {
  if (findings.length === 0)
    return <p className="p-3 text-ink-soft">{pending ? 'Checking…' : '● No problems found.'}</p>
  return (
    <ul data-testid="findings">
      {findings.map((finding) => (
        <li key={`${finding.start}-${finding.code}-${finding.message}`} className="border-rule-fine border-b">
          <button
            type="button"
            onClick={() => goTo(finding.line)}
            className="block w-full px-3 py-1.5 text-left hover:bg-rule-fine"
          >
            <Weight finding={finding} />{' '}
            <span className="font-mono text-ink-faint text-xs">
              line {finding.line}, {finding.code}
            </span>
            <span className="block">{finding.message}.</span>
            <span className="block text-ink-soft">
              <span className="text-ink-faint">{finding.intended ? 'Reason:' : 'Remedy:'}</span>{' '}
              {finding.intended ?? finding.remedy}.
            </span>
          </button>
        </li>
      ))}
    </ul>
  )
}

function Weight({ finding }: { finding: Finding }) {
  if (finding.intended) return <span className="text-ink-faint">○ intended</span>
  if (finding.severity === 'error') return <span className="text-ebb">✕ error</span>
  return <span className="text-warn">▲ warning</span>
}
