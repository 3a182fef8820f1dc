import { type FormEvent, type InputHTMLAttributes, type ReactNode, useEffect, useState } from 'react'
import { ApiError, words } from '../../api/client'
import { Button } from '../../ui/Button'
import { type Credentials, useSession } from './useSession'

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
        Cannot reach the service.{' '}
        <button type="button" className="underline" onClick={() => session.refetch()}>
          Try again
        </button>
      </p>
    </main>
  ) : (
    <SignIn signIn={signIn} />
  )
}

function SignIn({ signIn }: { signIn: (credentials: Credentials) => Promise<void> }) {
  const [byToken, setByToken] = useState(true)
  const [values, setValues] = useState({ token: '', name: '', password: '', code: '' })
  const [problem, setProblem] = useState<string>()
  const { token, name, password, code } = values
  const ready = byToken ? token : name && password && code
  const submit = async (event: FormEvent) => {
    event.preventDefault()
    try {
      await signIn(byToken ? { token } : { name, password, code })
    } catch (error) {
      setProblem(words(error))
    }
  }
  const field = (key: keyof typeof values, label: string, more: InputHTMLAttributes<HTMLInputElement> = {}) => (
    <Field
      key={key}
      id={key}
      label={label}
      value={values[key]}
      onChange={(event) => setValues({ ...values, [key]: event.target.value })}
      {...more}
    />
  )
  return (
    <main className="grid h-full place-items-center">
      <form onSubmit={submit} className="w-96 max-w-[90vw] border-rule border-y bg-sheet p-6">
        <h1 className="mb-1 flex items-center gap-2 font-semibold text-lg">
          <img src="/mark.svg" alt="" className="size-6" /> Bivector
        </h1>
        <p className="mb-4 text-ink-soft">
          {byToken ? 'Sign in with an operator token.' : 'Sign in with your operator name, password and one-time code.'}
        </p>
        {byToken
          ? field('token', 'Token', { type: 'password', autoComplete: 'current-password' })
          : [
              field('name', 'Name', { autoComplete: 'username' }),
              field('password', 'Password', { type: 'password', autoComplete: 'current-password' }),
              field('code', 'Code', { inputMode: 'numeric', autoComplete: 'one-time-code' }),
            ]}
        {problem && (
          <p role="alert" className="mb-3 border-ebb border-l-2 pl-2 text-ebb">
            {problem}
          </p>
        )}
        <Button type="submit" disabled={!ready} className="w-full">
          Sign in
        </Button>
        <p className="mt-4 text-ink-faint text-xs">
          <button type="button" className="underline" onClick={() => setByToken(!byToken)}>
            {byToken ? 'Use a password and code instead' : 'Use a token instead'}
          </button>
          {byToken && (
            <>
              The first token is in the file <code className="font-mono">operator.token</code> in the data folder.
            </>
          )}
        </p>
      </form>
    </main>
  )
}

function Field({ id, label, ...rest }: InputHTMLAttributes<HTMLInputElement> & { id: string; label: string }) {
  return (
    <>
      <label className="mb-1 block text-ink-faint text-xs" htmlFor={id}>
        {label}
      </label>
      <input id={id} className="mb-3 w-full rounded border border-rule bg-paper px-2 py-1.5 font-mono" {...rest} />
    </>
  )
}
