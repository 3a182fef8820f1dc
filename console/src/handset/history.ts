import { openDB } from 'idb'
import type { Decision } from './protocol'

/** What was answered on this phone. It is kept here only. */
export type Answer = { at: number; decision: Decision; gateway: string; from: string }

const KEPT = 20

/** The phone's own store: its key, and its answers. The service worker opens the same one. */
export const ownStore = () =>
  openDB('bivector-handset', 2, {
    upgrade: (database, before) => {
      if (before < 1) database.createObjectStore('devices')
      if (before < 2) database.createObjectStore('answers', { keyPath: 'at' })
    },
  })

/** The newest answers first. */
export async function answers(): Promise<Answer[]> {
  return ((await (await ownStore()).getAll('answers')) as Answer[]).reverse()
}

export async function keepAnswer(answer: Answer): Promise<void> {
  const store = await ownStore()
  await store.put('answers', answer)
  const all = await store.getAllKeys('answers')
  for (const old of all.slice(0, Math.max(0, all.length - KEPT))) await store.delete('answers', old)
}

export async function forgetAnswers(): Promise<void> {
  await (await ownStore()).clear('answers')
}
