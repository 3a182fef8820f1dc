import { type FormEvent, type ReactNode, useEffect, useState } from 'react'
import { ApiError } from '../../api/client'
import { Button } from '../../ui/Button'
import { useSession } from './useSession'

/** Shows the console to operators, and the sign-in to everybody else. */
export function SessionGate({ children }: { children: ReactNode }) {
  const { session, signIn } = useSession()
  const { refetch } = session
  // A link with a token may be opened in a page that is open already: only what stands behind `#` changes then.
  useEffect(() => {
    const again = () => void refetch()
    window.addEventListener('hashchange', again)
    return () => window.removeEventListener('hashchange', again)
  }, [refetch])
  if (session.isPending) return null
  if (session.data) return children
  const unreachable = !(session.error instanceof ApiError)
  return unreachable ? (
    <main className="grid h-full place-items-center text-ink-soft">
      <p>
        The service does not answer.{' '}
        <button type="button" className="underline" onClick={() => session.refetch()}>
          Try again
        </button>
      </p>
    </main>
  ) : (
    <SignIn signIn={signIn} />
  )
}

function SignIn({ signIn }: { signIn: (token: string) => Promise<void> }) {
  const [token, setToken] = useState('')
  const [problem, setProblem] = useState<string>()
  const submit = async (event: FormEvent) => {
    event.preventDefault()
    try {
      await signIn(token)
    } catch (error) {
      setProblem(
        error instanceof ApiError ? `${error.problem.title}. ${error.problem.remedy}.` : 'The service does not answer.',
      )
    }
  }
  return (
    <main className="grid h-full place-items-center">
      <form onSubmit={submit} className="w-96 max-w-[90vw] border-rule border-y bg-sheet p-6">
        <h1 className="mb-1 flex items-center gap-2 font-semibold text-lg">
          <img src="/mark.svg" alt="" className="size-6" /> Bivector
        </h1>
        <p className="mb-4 text-ink-soft">Sign in with an operator’s token.</p>
        <label className="mb-1 block text-ink-faint text-xs" htmlFor="token">
          Token
        </label>
        <input
          id="token"
          type="password"
          autoComplete="current-password"
          value={token}
          onChange={(event) => setToken(event.target.value)}
          className="mb-3 w-full rounded border border-rule bg-paper px-2 py-1.5 font-mono"
        />
        {problem && (
          <p role="alert" className="mb-3 border-ebb border-l-2 pl-2 text-ebb">
            {problem}
          </p>
        )}
        <Button type="submit" disabled={!token} className="w-full">
          Sign in
        </Button>
        <p className="mt-4 text-ink-faint text-xs">
          The first start wrote one to <code className="font-mono">operator.token</code> in the data folder.
        </p>
      </form>
    </main>
  )
}
