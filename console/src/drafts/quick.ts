import { type Draft, type Impact } from '../api'
import { type Sent, towardsDraft } from '../operations'

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
export function changesPolicy(s: Sent): boolean {
  const { draft, operation } = towardsDraft(s)
  return draft === 'policy' && !operation?.weighsSelf
}

/** The reason that was given with a change, in its query or its body. */
function reasonOf(s: Sent): string {
  const body = (typeof s.body === 'object' ? s.body : null) as { why?: string; reason?: string } | null
  return (s.query?.why as string | undefined) ?? body?.why ?? body?.reason ?? ''
}

type Raw = <T>(s: Sent) => Promise<T>

export class NotPublished extends Error {}

/** Makes one change in a draft of its own, shows what it does, and publishes it. */
export async function quickly<T>(raw: Raw, within: (s: Sent, draft: string) => Sent, s: Sent): Promise<T> {
  let d = await raw<Draft>({ key: 'POST /api/v1/drafts', body: { quick: true } })
  const path = { id: d.id }
  const now = () => raw<Draft>({ key: 'GET /api/v1/drafts/{id}', path })
  const drop = () => raw({ key: 'POST /api/v1/drafts/{id}/drop', path, body: { why: 'not published' } }).catch(() => undefined)
  let answer: T
  let impact: Impact
  try {
    answer = await raw<T>(within(s, d.id))
    d = await now()
    if (d.edits.length === 0) {
      await drop()
      return answer
    }
    impact = await raw<Impact>({ key: 'GET /api/v1/drafts/{id}/impact', path })
  } catch (e) {
    await drop()
    throw e
  }
  const publish = (why: string, despite: string) =>
    raw<Draft>({ key: 'POST /api/v1/drafts/{id}/publish', path, body: { why, digest: impact.digest, ...(despite ? { despite } : {}) } })
  const keep = (why: string) => raw<Draft>({ key: 'POST /api/v1/drafts/{id}/keep', path, body: why ? { why } : {} })
  const weighing = { draft: d, impact, why: reasonOf(s), publish, keep, now, drop: () => void drop() }
  const decision: Decision = ask ? await ask(weighing) : { do: 'drop' }
  if (decision.do === 'drop') {
    await drop()
    throw new NotPublished('Nothing was changed.')
  }
  if (decision.do === 'waits')
    throw new NotPublished(`Not in force yet: it waits as the draft “${d.name}” until somebody else confirms it.`)
  if (decision.do === 'keep') throw new NotPublished(`It is kept as the draft “${d.name}”.`)
  return answer
}
