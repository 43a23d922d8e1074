import type { components } from './contract.gen'

type Schemas = components['schemas']
export type Answer = Schemas['Answer']
export type Gate = Schemas['Gate']
export type Cause = Schemas['Cause']
export type Rule = Schemas['Rule']
export type Partner = Schemas['Partner']
export type PartnerChange = Schemas['PartnerChange']
export type Session = Schemas['Session']
export type Suggestion = Schemas['Suggestion']
export type Overview = Schemas['Overview']
export type JournalEntry = Schemas['JournalEntry']
export type Action = Schemas['Action']
export type Problem = Schemas['Problem']
export type Question = Schemas['Question']
export type Bar = Schemas['Bar']

/** A problem that the service answered with (RFC 9457). */
export class Failure extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail ? `${problem.title}: ${problem.detail}` : problem.title)
  }
}

let csrf = ''
/** Every request that changes something carries the session's csrf value. */
export function remember(session: Session) {
  csrf = session.csrf
}

/** Calls the contract and returns its answer, or throws a Failure. */
export async function call<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
  let response: Response
  try {
    response = await fetch(path, {
      method,
      credentials: 'same-origin',
      headers: { ...(body === undefined ? {} : { 'Content-Type': 'application/json' }), ...(method === 'GET' ? {} : { 'X-CSRF-Token': csrf }), ...headers },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch {
    throw new Failure({ type: 'about:blank', title: 'The service does not answer', status: 0, detail: 'what is shown may be old; it is tried again' })
  }
  if (response.status === 204) return undefined as T
  const text = await response.text()
  if (!response.ok) {
    let problem: Problem
    try {
      problem = JSON.parse(text) as Problem
    } catch {
      problem = { type: 'about:blank', title: `The service answered ${response.status}`, status: response.status }
    }
    throw new Failure(problem)
  }
  return JSON.parse(text) as T
}

export const query = (params: Record<string, string | undefined>) => {
  const q = new URLSearchParams()
  for (const [k, v] of Object.entries(params)) if (v) q.set(k, v)
  const s = q.toString()
  return s ? `?${s}` : ''
}

/** The services and directions that a partner can be opened for. */
export const services = ['directory', 'spaces', 'chat', 'meetings', 'files', 'mail', 'reports'] as const
