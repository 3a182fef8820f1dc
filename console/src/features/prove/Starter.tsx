import { useMutation } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { useState } from 'react'
import { ApiError, api, need, words } from '../../api/client'
import { Button } from '../../ui/Button'
import { Select } from '../../ui/Select'
import { useSession } from '../session/useSession'
import { addToDraft } from '../site/useDraft'

/** A first rehearsal for a chain, written from the site, to be put into the site file. */
export function Starter() {
  const { session } = useSession()
  const navigate = useNavigate()
  const [chain, setChain] = useState<string>()
  const [copied, setCopied] = useState(false)
  const add = useMutation({
    mutationFn: async (text: string) => {
      addToDraft(text, need(await api.GET('/api/v1/site')))
      await navigate({ to: '/site', search: {} })
    },
  })
  const write = useMutation({
    mutationFn: async (chain: string) => {
      const answer = await fetch(`/api/v1/rehearsals/starter?chain=${encodeURIComponent(chain)}`)
      if (!answer.ok) throw new ApiError(await answer.json())
      return answer.text()
    },
  })
  return (
    <div className="border-rule-fine border-b px-4 py-2 text-xs">
      <div className="flex flex-wrap items-center gap-2">
        <span className="text-ink-faint">Generate a rehearsal for</span>
        <Select label="Chain" value={chain} options={session.data?.chains ?? []} onChange={setChain} />
        <Button disabled={!chain || write.isPending} onClick={() => chain && write.mutate(chain)}>
          Generate
        </Button>
        {write.data && (
          <span className="ml-auto flex gap-2">
            <Button
              onClick={() => {
                void navigator.clipboard.writeText(write.data)
                setCopied(true)
              }}
            >
              {copied ? 'Copied' : 'Copy'}
            </Button>
            <Button disabled={add.isPending} onClick={() => add.mutate(write.data)}>
              Add to draft
            </Button>
          </span>
        )}
      </div>
      {(write.error ?? add.error) && <p className="mt-1 text-ebb">{words(write.error ?? add.error)}</p>}
      {write.data && (
        <pre
          data-testid="starter"
          className="mt-2 max-h-72 overflow-auto rounded border border-rule bg-paper p-2 font-mono"
        >
          {write.data}
        </pre>
      )}
    </div>
  )
}
