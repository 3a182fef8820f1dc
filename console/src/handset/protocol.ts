/** The handset protocol, as `docs/handset-protocol.md` has it. */

import type { components } from '../api/schema'
import { type Message, t } from './texts'

export type Schemas = components['schemas']

/** A refusal: a sentence, and what to do about it. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    title: string,
    readonly remedy: string,
    /** What kind of refusal it is, in a word. */
    readonly kind = '',
  ) {
    super(title)
  }
}

/** Refusals that people meet, in their language; others come in English, with what an administrator needs. */
const KINDS: Record<string, Message> = {
  answered: 'This was already answered.',
  late: 'Too late: the sign-in has ended. If it was yours, start it again.',
  changed: 'Another request has joined this one. Answer what is shown now.',
  withdrawn: 'This sign-in request no longer waits.',
}

/** What went wrong, for people. */
export function words(error: unknown): string {
  const known = error instanceof Refused ? KINDS[error.kind] : undefined
  if (known) return t(known)
  if (error instanceof Refused)
    return error.remedy ? `${sentence(error.message)} ${sentence(error.remedy)}` : sentence(error.message)
  if (error instanceof DOMException && error.name === 'NotAllowedError')
    return t('The security key was not used. Try again.')
  if (error instanceof TypeError) return t('Cannot reach the server. Check your network and try again.')
  return error instanceof Error ? sentence(error.message) : t('Something went wrong. Try again.')
}

function sentence(text: string): string {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}${/[.?!]$/.test(text) ? '' : '.'}`
}

/** A call of the protocol; the header marks changes as this page's own. */
export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const answer = await fetch(`/handset/v1${path}`, {
    method,
    headers: { 'x-bivector-handset': '1', ...(body === undefined ? {} : { 'content-type': 'application/json' }) },
    body: body === undefined ? undefined : JSON.stringify(body),
  })
  const text = await answer.text()
  const read = text ? JSON.parse(text) : undefined
  if (!answer.ok)
    throw new Refused(
      answer.status,
      read?.title ?? `The server returned an error (${answer.status}).`,
      read?.remedy ?? '',
      String(read?.type ?? '').replace('/problems/', ''),
    )
  return read as T
}

export type Page = Schemas['PageView']
export type Invitation = Schemas['Peeked']
export type NewApp = Schemas['NewApp']
export type OwnCode = Schemas['OwnCode']
export type Me = Schemas['Me']
export type PushOffer = Schemas['PushOffer']

/** What is shown of an approval. */
export type Shown = {
  id: string
  site: string
  name: string
  login: string
  gateway: string
  from: string
  at_us: number
  until_us: number
  numbers: number[]
  with_key: boolean
  /** How many sign-ins of the same device a yes lets in. */
  requests: number
  /** When each of them came, in microseconds since 1970 by the service's clock. */
  asked_us: number[]
  /** Whether the password has yet to be checked: too many wrong ones were typed. */
  before_password: boolean
}

export type Decision = Schemas['Decision']
export type Factor = Schemas['FactorView']
export type Own = Schemas['OwnView']

export const enrolmentText = (invitation: string, publicKey: string, label: string) =>
  `bivector handset enrol 1\n${invitation}\n${publicKey}\n${label}`
export const sessionText = (challenge: string) => `bivector handset session 1\n${challenge}`
/** Signed over exactly what was shown: `shown` is the very text that came. */
export const answerText = (decision: Decision, number: number | null, shown: string) =>
  `bivector handset answer 1\n${decision}\n${number ?? ''}\n${shown}`
