// Passkeys: W3C Web Authentication, level 3, section 5.1. What the service dares the device to sign
// comes and goes as JSON, which newer browsers read and write themselves.
import { api } from './api/client'

type Options = { publicKey: unknown }

// Whether this browser, at this address, can have any.
export function canHave(): boolean {
  return window.isSecureContext && typeof PublicKeyCredential !== 'undefined' && 'parseCreationOptionsFromJSON' in PublicKeyCredential && !/^[\d.:[\]]+$/.test(location.hostname)
}

function answer(c: Credential | null): unknown {
  if (!c) throw new Error('the device gave nothing')
  return (c as PublicKeyCredential).toJSON()
}

// The person says no at the device, or takes too long; that is no fault.
export function declined(e: unknown): boolean {
  return e instanceof DOMException && (e.name === 'NotAllowedError' || e.name === 'AbortError')
}

export async function add(name: string) {
  const { data, error } = await api.POST('/api/passkeys/begin')
  if (error) return error
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON((data.options as Options).publicKey as PublicKeyCredentialCreationOptionsJSON)
  const response = answer(await navigator.credentials.create({ publicKey }))
  return (await api.POST('/api/passkeys', { body: { name, state: data.state, response } })).error
}

/** confirm makes sure with a passkey that it is oneself. */
export async function confirm() {
  const { data, error } = await api.POST('/api/session/confirm/passkey')
  if (error) return error
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON((data.options as Options).publicKey as PublicKeyCredentialRequestOptionsJSON)
  const passkey = answer(await navigator.credentials.get({ publicKey }))
  return (await api.POST('/api/session/confirm', { body: { state: data.state, passkey } })).error
}

export async function signIn(): Promise<{ state: string; passkey: unknown }> {
  const { data, error } = await api.POST('/api/session/passkey')
  if (error) throw error
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON((data.options as Options).publicKey as PublicKeyCredentialRequestOptionsJSON)
  return { state: data.state, passkey: answer(await navigator.credentials.get({ publicKey })) }
}
