import { forgetAnswers, ownStore } from './history'
import { answerText, call, type Decision, enrolmentText, type Schemas, sessionText } from './protocol'

/** This phone as it knows itself. The key can sign, but nobody can read it out of the browser. */
export type Device = { person: string; device: number; key: CryptoKey }

const ALGORITHM = { name: 'ECDSA', namedCurve: 'P-256' } as const
const OWN = 'own'

const store = ownStore

export async function ownDevice(): Promise<Device | undefined> {
  return (await store()).get('devices', OWN)
}

export async function forgetDevice(): Promise<void> {
  await (await store()).delete('devices', OWN)
  await forgetAnswers()
}

export function base64url(bytes: ArrayBuffer): string {
  const text = String.fromCharCode(...new Uint8Array(bytes))
  return btoa(text).replaceAll('+', '-').replaceAll('/', '_').replaceAll('=', '')
}

async function sign(key: CryptoKey, text: string): Promise<string> {
  const bytes = new TextEncoder().encode(text)
  return base64url(await crypto.subtle.sign({ name: 'ECDSA', hash: 'SHA-256' }, key, bytes))
}

/** Makes a key that cannot be exported, and enrols it. */
export async function enrol(invitation: string, label: string): Promise<Device> {
  const pair = await crypto.subtle.generateKey(ALGORITHM, false, ['sign', 'verify'])
  const publicKey = base64url(await crypto.subtle.exportKey('raw', pair.publicKey))
  const signature = await sign(pair.privateKey, enrolmentText(invitation, publicKey, label))
  const body = { invitation, label, public_key: publicKey, signature }
  const enrolled = await call<Schemas['Enrolled']>('POST', '/devices', body)
  const device = { person: enrolled.person, device: enrolled.device, key: pair.privateKey }
  await (await store()).put('devices', device, OWN)
  return device
}

/** Signs what the service asks, for a session in a cookie that scripts cannot read. */
export async function beginSession(device: Device): Promise<void> {
  const asked = { person: device.person, device: device.device }
  const { challenge } = await call<Schemas['Challenged']>('POST', '/challenge', asked)
  await call('POST', '/session', { challenge, signature: await sign(device.key, sessionText(challenge)) })
}

/** Answers an approval. `shown` is the text as it came, since that is what is signed. */
export async function answer(
  device: Device,
  id: string,
  shown: string,
  decision: Decision,
  number: number | null,
  key?: unknown,
): Promise<{ outcome: 'approved' | 'denied' | 'stopped'; said: string }> {
  const signature = await sign(device.key, answerText(decision, number, shown))
  return call('POST', `/approvals/${id}`, { decision, number, signature, key })
}

/** A name for this phone that people may change. */
export function guessLabel(): string {
  const agent = navigator.userAgent
  const kinds: [RegExp, string][] = [
    [/iPhone/, 'iPhone'],
    [/iPad/, 'iPad'],
    [/Android.*Mobile/, 'Android phone'],
    [/Android/, 'Android tablet'],
    [/Mac OS X/, 'Mac'],
    [/Windows/, 'Windows computer'],
    [/Linux/, 'Linux computer'],
  ]
  return kinds.find(([pattern]) => pattern.test(agent))?.[1] ?? 'phone'
}
