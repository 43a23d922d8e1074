import { type Draft, type Impact } from '../api'
import { towardsDraft } from '../operations'

/** The draft that this window works in: what is changed goes into it, what is asked is answered as it would make it. */
const key = 'wexillum.draft'
const listeners = new Set<() => void>()

export interface InDraft {
  id: string
  name: string
}

let current: InDraft | null = read()
function read(): InDraft | null {
  try {
    return JSON.parse(sessionStorage.getItem(key) ?? 'null') as InDraft | null
  } catch {
    return null
  }
}

export function inDraft(): InDraft | null {
  return current
}

export function workIn(d: InDraft | null) {
  current = d
  if (d) sessionStorage.setItem(key, JSON.stringify(d))
  else sessionStorage.removeItem(key)
  for (const l of listeners) l()
}

export function watchDraft(l: () => void): () => void {
  listeners.add(l)
  return () => listeners.delete(l)
}

/** What somebody decides about one change when they have seen its impact. */
export type Decision = { do: 'publish'; why: string } | { do: 'waits' } | { do: 'keep' } | { do: 'drop' }

export interface Weighing {
  draft: Draft
  impact: Impact
  why: string
  publish: (why: string, despite: string) => Promise<Draft>
  keep: (why: string) => Promise<Draft>
  now: () => Promise<Draft>
  drop: () => void
}

let ask: ((w: Weighing) => Promise<Decision>) | null = null
/** The dialog that shows an impact and asks. */
export function setAsk(f: typeof ask) {
  ask = f
}

/** Whether a request is made a draft of one change where this window works in none. */
export function changesPolicy(method: string, path: string): boolean {
  const { draft, operation } = towardsDraft(method, path)
  return draft === 'policy' && !operation?.weighsSelf
}

type Raw = <T>(method: string, path: string, body: string | undefined, headers: Record<string, string>) => Promise<T>

export class NotPublished extends Error {}

/** Makes one change in a draft of its own, shows what it does, and publishes it. */
export async function quickly<T>(raw: Raw, method: string, path: string, body: string | undefined, headers: Record<string, string>): Promise<T> {
  const json = { 'Content-Type': 'application/json' }
  let d = await raw<Draft>('POST', '/api/v1/drafts', JSON.stringify({ quick: true }), json)
  const at = `/api/v1/drafts/${d.id}`
  const drop = () => raw('POST', `${at}/drop`, JSON.stringify({ why: 'not published' }), json).catch(() => undefined)
  let answer: T
  let impact: Impact
  try {
    answer = await raw<T>(method, path, body, { ...headers, 'Wexillum-Draft': d.id })
    d = await raw<Draft>('GET', at, undefined, {})
    if (d.edits.length === 0) {
      await drop()
      return answer
    }
    impact = await raw<Impact>('GET', `${at}/impact`, undefined, {})
  } catch (e) {
    await drop()
    throw e
  }
  const given = new URLSearchParams(path.split('?')[1]).get('why') ?? (body?.startsWith('{') ? ((JSON.parse(body) as { why?: string; reason?: string }).why ?? (JSON.parse(body) as { reason?: string }).reason ?? '') : '')
  const decision: Decision = ask
    ? await ask({ draft: d, impact, why: given, publish: (why, despite) => raw<Draft>('POST', `${at}/publish`, JSON.stringify({ why, digest: impact.digest, ...(despite ? { despite } : {}) }), json), keep: (why) => raw<Draft>('POST', `${at}/keep`, JSON.stringify(why ? { why } : {}), json), now: () => raw<Draft>('GET', at, undefined, {}), drop: () => void drop() })
    : { do: 'drop' }
  if (decision.do === 'drop') {
    await drop()
    throw new NotPublished('Nothing was changed.')
  }
  if (decision.do === 'waits') throw new NotPublished(`Not in force yet: it waits as the draft “${d.name}” until somebody else confirms it.`)
  if (decision.do === 'keep') throw new NotPublished(`It is kept as the draft “${d.name}”.`)
  return answer
}
