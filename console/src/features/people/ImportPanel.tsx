import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type ChangeEvent, useState } from 'react'
import { ApiError, api, type Imported, need, words } from '../../api/client'
import { useEscape } from '../../lib/useEscape'
import { Button } from '../../ui/Button'

const SHOWN = 50

type File = { name: string; csv: string }

/** People from a file: looked at first, with every mistake by its line; then taken over, and taken back if that was wrong. */
export function ImportPanel({ close }: { close: () => void }) {
  useEscape(close)
  const queries = useQueryClient()
  const [file, setFile] = useState<File>()
  const [unreadable, setUnreadable] = useState('')
  const send = async (csv: string, preview: boolean): Promise<Imported> => {
    const answer = await api.POST('/api/v1/people/import', { body: { csv, preview } })
    // Lines that are wrong come back in the same shape.
    const wrong = answer.error as Imported | undefined
    if (wrong?.errors) return wrong
    return need(answer)
  }
  const preview = useMutation({ mutationFn: (csv: string) => send(csv, true) })
  const take = useMutation({
    mutationFn: (csv: string) => send(csv, false),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['people'] }),
  })
  const undo = useMutation({
    mutationFn: async (number: number) =>
      need(await api.POST('/api/v1/people/changes/{number}/undo', { params: { path: { number } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['people'] }),
  })
  const choose = async (event: ChangeEvent<HTMLInputElement>) => {
    const chosen = event.target.files?.[0]
    if (!chosen) return
    take.reset()
    undo.reset()
    setUnreadable('')
    try {
      const csv = new TextDecoder('utf-8', { fatal: true }).decode(await chosen.arrayBuffer())
      setFile({ name: chosen.name, csv })
      preview.mutate(csv)
    } catch {
      setFile(undefined)
      preview.reset()
      setUnreadable(`${chosen.name} is not UTF-8. Save it as UTF-8 and choose it again.`)
    }
  }
  const looked = preview.data
  const taken = take.data
  const failure = [preview.error, take.error, undo.error].find(
    (error) => error instanceof ApiError || error instanceof Error,
  )
  return (
    <aside
      aria-label="Import"
      data-testid="import"
      className="flex w-[440px] shrink-0 flex-col gap-2 overflow-y-auto border-rule border-l bg-sheet px-4 py-2 max-lg:w-full"
    >
      <div className="flex items-center">
        <h2 className="font-semibold">Import people</h2>
        <Button onClick={close} aria-label="Close" className="ml-auto">
          ✕
        </Button>
      </div>
      <p className="text-ink-soft">
        CSV with a header row. Required: <code className="font-mono">login, source</code>. Optional: name, password,
        groups (separated by ;), mail, phone, language, totp_seed and others. Nothing is imported unless every line is
        valid.
      </p>
      <input type="file" accept=".csv,text/csv,text/plain" aria-label="CSV file" onChange={choose} />
      {unreadable && <p className="text-ebb">{unreadable}</p>}
      {failure && <p className="text-ebb">{words(failure)}</p>}
      {looked && looked.errors.length > 0 && (
        <div role="alert">
          <p className="text-ebb">
            {looked.errors.length} {looked.errors.length === 1 ? 'error' : 'errors'}. Nothing was imported.
          </p>
          <table className="w-full text-left">
            <thead className="text-ink-faint text-xs">
              <tr>
                <th className="pr-2 text-right font-normal">Line</th>
                <th className="font-normal">Column</th>
                <th className="font-normal">Error</th>
              </tr>
            </thead>
            <tbody>
              {looked.errors.slice(0, SHOWN).map((error) => (
                <tr
                  key={`${error.line} ${error.column} ${error.message}`}
                  className="[&>td]:border-rule-fine [&>td]:border-b [&>td]:py-0.5 [&>td]:pr-2"
                >
                  <td className="text-right font-mono text-ink-faint">{error.line}</td>
                  <td className="font-mono">{error.column}</td>
                  <td>{error.message}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {looked.errors.length > SHOWN && <p className="text-ink-faint">and {looked.errors.length - SHOWN} more</p>}
        </div>
      )}
      {file && looked && looked.errors.length === 0 && !taken && (
        <div className="border-flood border-l-2 bg-paper px-3 py-2">
          <p>
            {file.name}: {looked.people} people with {looked.factors} factors; {looked.new} of them are new.
          </p>
          <Button
            className="mt-1 !border-flood !text-flood"
            disabled={take.isPending}
            onClick={() => take.mutate(file.csv)}
          >
            Import
          </Button>
        </div>
      )}
      {taken && taken.errors.length === 0 && (
        <div role="status" className="border-flood border-l-2 bg-flood-wash px-3 py-2">
          <p>
            {taken.people} people imported{taken.invited > 0 && `, ${taken.invited} newcomers invited`}.
          </p>
          {taken.invited === 0 && (
            <p>
              Next: invite them.{' '}
              <a className="underline" href="/people?state=not-yet">
                Show users without a factor
              </a>
            </p>
          )}
          {taken.missed.map((one) => (
            <p key={one} className="text-warn">
              Not invited: {one}
            </p>
          ))}
          {taken.change != null && !undo.data && (
            <Button
              className="mt-1"
              disabled={undo.isPending}
              onClick={() => taken.change != null && undo.mutate(taken.change)}
            >
              Undo import
            </Button>
          )}
          {undo.data && <p>Import undone.</p>}
        </div>
      )}
    </aside>
  )
}
