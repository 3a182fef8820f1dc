import { base64url } from './device'
import { call } from './protocol'

/** Security keys by WebAuthn: the service's JSON on one side, the browser's buffers on the other. */

const bytes = (text: string) => {
  const plain = atob(text.replaceAll('-', '+').replaceAll('_', '/'))
  return Uint8Array.from(plain, (character) => character.charCodeAt(0))
}

type Descriptor = { id: string; type: 'public-key'; transports?: AuthenticatorTransport[] }
const descriptors = (list?: Descriptor[]) => list?.map((one) => ({ ...one, id: bytes(one.id) }))

/** Whether this browser can use security keys on this page. */
export const canUseKeys = () => window.isSecureContext && 'credentials' in navigator && 'PublicKeyCredential' in window

/** Enrols a security key. */
export async function addKey(label: string): Promise<void> {
  // biome-ignore lint/suspicious/noExplicitAny: the standard's own JSON, passed on as it comes
  const { publicKey } = await call<any>('POST', '/keys')
  const made = await navigator.credentials.create({
    publicKey: {
      ...publicKey,
      challenge: bytes(publicKey.challenge),
      user: { ...publicKey.user, id: bytes(publicKey.user.id) },
      excludeCredentials: descriptors(publicKey.excludeCredentials),
    },
  })
  if (!(made instanceof PublicKeyCredential)) throw new Error('No security key responded. Try again.')
  const response = made.response as AuthenticatorAttestationResponse
  const credential = {
    id: made.id,
    rawId: base64url(made.rawId),
    type: made.type,
    extensions: {},
    response: {
      attestationObject: base64url(response.attestationObject),
      clientDataJSON: base64url(response.clientDataJSON),
      transports: response.getTransports?.() ?? [],
    },
  }
  await call('PUT', '/keys', { label, credential })
}

/** Proves an approval with a security key. */
export async function touchKey(approval: string): Promise<unknown> {
  // biome-ignore lint/suspicious/noExplicitAny: the standard's own JSON, passed on as it comes
  const { publicKey } = await call<any>('POST', `/approvals/${approval}/key`)
  const touched = await navigator.credentials.get({
    publicKey: {
      ...publicKey,
      challenge: bytes(publicKey.challenge),
      allowCredentials: descriptors(publicKey.allowCredentials),
    },
  })
  if (!(touched instanceof PublicKeyCredential)) throw new Error('No security key responded. Try again.')
  const response = touched.response as AuthenticatorAssertionResponse
  return {
    id: touched.id,
    rawId: base64url(touched.rawId),
    type: touched.type,
    extensions: {},
    response: {
      authenticatorData: base64url(response.authenticatorData),
      clientDataJSON: base64url(response.clientDataJSON),
      signature: base64url(response.signature),
      userHandle: response.userHandle ? base64url(response.userHandle) : null,
    },
  }
}
