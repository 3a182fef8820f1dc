import { useQuery } from '@tanstack/react-query'
import { ApiError, api, type Difference, need, words } from '../../api/client'

/** What the draft, or an earlier revision, would change: in words, then in lines. */
export function Changes({ text, against }: { text: string; against: number }) {
  const compared = useQuery({
    queryKey: ['compare', against, text],
    queryFn: async () => need(await api.POST('/api/v1/site/compare', { body: { text, against, revision: null } })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  })
  if (compared.isError) {
    const mistakes = compared.error instanceof ApiError && compared.error.problem.findings?.length
    return (
      <p className="p-3 text-ink-soft">
        {mistakes ? 'Fix the errors under Findings to see what this draft changes.' : words(compared.error)}
      </p>
    )
  }
  if (!compared.data) return null
  const { differences, lines } = compared.data
  return (
    <div data-testid="changes">
      <Differences differences={differences} />
      {differences.length === 0 && (
        <p className="p-3 text-ink-soft">
          Nothing changes for a login{lines ? '; only comments or layout differ' : ''}.
        </p>
      )}
      {lines && (
        <pre className="overflow-x-auto border-rule border-t px-3 py-2 font-mono text-xs leading-5">
          {lines
            .trimEnd()
            .split('\n')
            .map((line, at) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: lines of one text have no other name
              <span key={at} className={`block ${colourOf(line)}`}>
                {line || ' '}
              </span>
            ))}
        </pre>
      )}
    </div>
  )
}

function colourOf(line: string) {
  if (/^(---|\+\+\+) /.test(line)) return 'text-ink-faint'
  if (line.startsWith('+')) return 'bg-flood-wash text-ink'
  if (line.startsWith('-')) return 'bg-ebb-wash text-ink'
  return 'text-ink-faint'
}

/** Differences under what they are about; what weakens stands out by word, mark and colour. */
export function Differences({ differences }: { differences: Difference[] }) {
  const about = [...new Set(differences.map((one) => one.about))]
  return (
    <ul className="px-3 py-2">
      {about.map((name) => (
        <li key={name} className="mb-1.5">
          <p className="font-semibold">{name}</p>
          <ul>
            {differences
              .filter((one) => one.about === name)
              .map((one) => (
                <li key={one.said} className={one.weaker ? 'text-ebb' : 'text-ink-soft'}>
                  {one.weaker ? '✕ Weaker: ' : '· '}
                  {one.said}
                </li>
              ))}
          </ul>
        </li>
      ))}
    </ul>
  )
}
