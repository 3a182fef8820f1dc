import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { ApiError, words } from '../../api/client'
import { Button } from '../../ui/Button'
import { Select } from '../../ui/Select'
import { useSession } from '../session/useSession'

/** A first rehearsal for a chain, written from the site, to be put into the site file. */
export function Starter() {
  const { session } = useSession()
  const [chain, setChain] = useState<string>()
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
        <span className="text-ink-faint">write a first rehearsal for</span>
        <Select label="chain" value={chain} options={session.data?.chains ?? []} onChange={setChain} />
        <Button disabled={!chain || write.isPending} onClick={() => chain && write.mutate(chain)}>
          write
        </Button>
        {write.data && (
          <Button onClick={() => void navigator.clipboard.writeText(write.data)} className="ml-auto">
            copy
          </Button>
        )}
      </div>
      {write.isError && <p className="mt-1 text-ebb">{words(write.error)}</p>}
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
