import { call, remember, type Session } from '../api'

/** Whether this browser can use passkeys here: they belong to a name, and an address of numbers is none. */
export const canPasskey = () =>
  typeof PublicKeyCredential !== 'undefined' &&
  'parseRequestOptionsFromJSON' in PublicKeyCredential &&
  !/^[\d.]+$|:/.test(location.hostname)

/** Why a browser did not answer, in words. */
export function whyNot(e: unknown): string {
  if (e instanceof DOMException && e.name === 'InvalidStateError') return 'This device has a passkey for you already.'
  if (e instanceof DOMException) return 'No passkey was used. Try again, or sign in another way.'
  return e instanceof Error ? e.message : String(e)
}

/** Adds a passkey of whoever is signed in. */
export async function addPasskey(name: string): Promise<void> {
  const { options } = await call('POST /api/v1/account/passkeys')
  const made = (await navigator.credentials.create({
    publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(options.publicKey as unknown as PublicKeyCredentialCreationOptionsJSON),
  })) as PublicKeyCredential
  await call('POST /api/v1/account/passkeys/finish', { body: { name, credential: made.toJSON() } })
}

/** Signs in by a passkey, or proves once more who is signed in. */
export async function provePasskey(language?: string): Promise<Session> {
  const { options } = await call('POST /api/v1/door/passkey')
  const got = (await navigator.credentials.get({
    publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(options.publicKey as unknown as PublicKeyCredentialRequestOptionsJSON),
  })) as PublicKeyCredential
  const s = await call('POST /api/v1/door/passkey/proof', { body: { credential: got.toJSON(), ...(language ? { language } : {}) } })
  remember(s)
  return s
}
