import { call, type PlaceEdit, type PlacesChanged, type Request } from '../api'
import { whoWord } from '../parts/bits'

/** What the last change of a place was, and by what it can be undone, until the next one. */
export interface Done {
  text: string
  change?: number
}

const listeners = new Set<() => void>()
let last: Done | null = null

export function lastDone(): Done | null {
  return last
}

export function watchDone(l: () => void): () => void {
  listeners.add(l)
  return () => listeners.delete(l)
}

/** Offers the way back of a change; null forgets it. */
export function offerBack(d: Done | null) {
  last = d
  for (const l of listeners) l()
}

const results: Record<string, string> = {
  added: 'made',
  changed: 'changed',
  closed: 'closed',
  ended: 'ended',
  removed: 'removed',
  unchanged: 'left as it was',
}

/** Says in words what became of a change. */
export function becameText(x: PlacesChanged, name?: string): string {
  if (x.lines.length === 1) return `${name || shortID(x.lines[0].kind, x.lines[0].id)}: ${results[x.lines[0].result] ?? x.lines[0].result}`
  return `${x.lines.filter((l) => l.result !== 'unchanged').length} changes made`
}

/** Names an entry without what nobody reads: of a role when it began. */
export function shortID(kind: string, id: string): string {
  return kind === 'grant' ? id.split(' ').slice(0, 3).join(', ') : id
}

/** Tells what edits would do. */
export function previewPlaces(changes: PlaceEdit[]): Promise<PlacesChanged> {
  return call('POST /api/v1/places', { query: { preview: true }, body: { changes } })
}

/** Makes the edits, and offers the way back. */
export async function changePlaces(changes: PlaceEdit[], why: string, name?: string): Promise<PlacesChanged> {
  const x = await call('POST /api/v1/places', { body: { changes, ...(why.trim() ? { why: why.trim() } : {}) } })
  if (x.change) offerBack({ text: becameText(x, name), change: x.change })
  return x
}

/** The fields of a merge patch: only what is otherwise than before; what became empty is taken away. */
export function patchOf(was: Record<string, unknown>, now: Record<string, unknown>): Record<string, unknown> {
  const out: Record<string, unknown> = {}
  for (const [k, v] of Object.entries(now)) {
    if (JSON.stringify(v ?? '') === JSON.stringify(was[k] ?? '')) continue
    const empty = v === '' || v === undefined || (Array.isArray(v) && v.length === 0)
    if (empty && (was[k] === undefined || was[k] === '')) continue
    out[k] = empty ? null : v
  }
  return out
}

/** Sends edits that are not one's own to make to whoever may make them. */
export async function askForPlaces(changes: PlaceEdit[], purpose: string): Promise<Request> {
  const r = await call('POST /api/v1/requests', { body: { changes, purpose: purpose.trim() } })
  offerBack({ text: `Sent to ${r.to.map(whoWord).join(', ')}; Today says what becomes of it` })
  return r
}
