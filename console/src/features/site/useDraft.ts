import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { ApiError, api, need, type Revision } from '../../api/client'

/** The check runs this long after the last key. */
const CHECK_AFTER = 350
const KEPT = 'bivector-draft'

/** A draft and the revision that it was made from. */
export type Draft = { text: string; from: number }

const EMPTY = 'format = 1\nname = ""\n'

/** The active revision; none before the first apply. */
export function useSite() {
  return useQuery({
    queryKey: ['site'],
    queryFn: async (): Promise<Revision | null> => {
      try {
        return need(await api.GET('/api/v1/site'))
      } catch (error) {
        if (error instanceof ApiError && error.problem.status === 404) return null
        throw error
      }
    },
  })
}

/** The draft: kept in the browser until it is applied or thrown away, so that a closed page loses nothing. */
export function useDraft(site: Revision | null) {
  const [own, setOwn] = useState<Draft | null>(kept)
  const active = fresh(site)
  // A draft that was applied is no draft any more.
  const differs = own !== null && own.text !== active.text
  useEffect(() => {
    keep(differs ? own : null)
    if (!differs) setOwn(null)
  }, [differs, own])
  return { draft: differs ? own : active, differs, change: setOwn, reset: () => setOwn(null) }
}

function fresh(site: Revision | null): Draft {
  return { text: site?.text ?? EMPTY, from: site?.number ?? 0 }
}

function kept(): Draft | null {
  try {
    return JSON.parse(localStorage.getItem(KEPT) ?? 'null')
  } catch {
    return null
  }
}

function keep(draft: Draft | null) {
  try {
    if (draft) localStorage.setItem(KEPT, JSON.stringify(draft))
    else localStorage.removeItem(KEPT)
  } catch {
    // Storage may be full or forbidden; the draft then lasts as long as the page.
  }
}

/** Keeps a draft that was made elsewhere, for the editor to take up. */
export function keepDraft(draft: Draft) {
  keep(draft)
}

/** Adds a piece to the end of the draft, or of a new one made from the active revision. */
export function addToDraft(piece: string, site: Revision) {
  const draft = kept() ?? fresh(site)
  keep({ ...draft, text: `${draft.text.trimEnd()}\n\n${piece.trim()}\n` })
}

/** What the check says of a text, a moment after it was typed. */
export function useCheck(text: string) {
  const settled = useSettled(text, CHECK_AFTER)
  const check = useQuery({
    queryKey: ['check', settled],
    queryFn: async () => need(await api.POST('/api/v1/site/check', { body: { text: settled } })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  })
  return { check, pending: settled !== text || check.isFetching }
}

function useSettled<T>(value: T, after: number): T {
  const [settled, setSettled] = useState(value)
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), after)
    return () => window.clearTimeout(timer)
  }, [value, after])
  return settled
}
