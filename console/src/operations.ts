import type { Operations } from './contract.gen'
import { operations, type Operation } from './operations.gen'

/** An operation of the contract, by its method and its path. */
export type Key = keyof Operations

/** What is given with an operation, as the contract says, and headers such as If-Match. */
export type Given<K extends Key> = Omit<Operations[K], 'answer'> & { headers?: Record<string, string> }

/** What an operation answers with. */
export type Answered<K extends Key> = Operations[K]['answer']

/** An operation with what is given, whichever it is. */
export interface Sent {
  key: string
  path?: Record<string, string | number>
  query?: Record<string, Value | Value[]>
  body?: unknown
  /** The media type of a body that is a text */
  type?: string
  headers?: Record<string, string>
}

type Value = string | number | boolean | undefined

/** The part of an address that says what is asked for; what is not given, empty or no stays out. */
export function query(params: Record<string, Value | Value[]>): string {
  const q = new URLSearchParams()
  for (const [k, v] of Object.entries(params)) for (const one of Array.isArray(v) ? v : [v]) if (one) q.append(k, String(one))
  const s = q.toString()
  return s ? `?${s}` : ''
}

/** The address of what is asked of an operation. */
export function addressed(s: Sent): string {
  const path = s.key.slice(s.key.indexOf(' ') + 1).replace(/{(\w+)}/g, (_, name: string) => encodeURIComponent(s.path?.[name] ?? ''))
  return path + query(s.query ?? {})
}

/** How a request stands to drafts, as the contract says of its operation. */
export function towardsDraft(s: Sent): { draft: Operation['draft']; operation?: Operation } {
  const operation = operations[s.key]
  if (!operation) return { draft: s.key.startsWith('GET ') ? 'ask' : 'never' }
  const { draft } = operation
  if (draft === 'policy' && !String(s.path?.where ?? '').startsWith(operation.policyWhere ?? '')) return { draft: 'never', operation }
  if (s.query?.preview && (draft === 'policy' || draft === 'preview')) return { draft: 'ask', operation }
  return { draft: draft === 'preview' ? 'never' : draft, operation }
}
