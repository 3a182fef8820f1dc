import { useQuery, useQueryClient } from '@tanstack/react-query'
import { ApiError, api, need } from '../../api/client'

/** A token, or name, password and one-time code. */
export type Credentials = { token: string } | { name: string; password: string; code: string }

/** Who is signed in, or why nobody is. */
export function useSession() {
  const queries = useQueryClient()
  const session = useQuery({
    queryKey: ['session'],
    queryFn: async () => {
      await signInFromLink()
      return need(await api.GET('/api/v1/status'))
    },
  })
  const signIn = async (body: Credentials) => {
    const answer = await api.POST('/api/v1/session', { body })
    if (answer.error) throw new ApiError(answer.error)
    await queries.invalidateQueries({ queryKey: ['session'] })
  }
  const signOut = async () => {
    await api.DELETE('/api/v1/session')
    // Nothing of what was shown stays in the page.
    queries.clear()
    window.location.assign('/')
  }
  return { session, signIn, signOut }
}

/** The demo's link carries the token behind `#`, which is never sent; it is taken out of the address at once. */
async function signInFromLink() {
  const token = new URLSearchParams(window.location.hash.slice(1)).get('token')
  if (!token) return
  window.history.replaceState(null, '', window.location.pathname + window.location.search)
  await api.POST('/api/v1/session', { body: { token } })
}
