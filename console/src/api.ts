import type { Schemas } from './contract.gen'
import { changesPolicy, inDraft, quickly } from './drafts/quick'
import { addressed, type Answered, type Given, type Key, type Sent, towardsDraft } from './operations'
import { idle } from './parts/activity'

export type { Operations } from './contract.gen'
export { query, type Given, type Key } from './operations'
export type Answer = Schemas['Answer']
export type Gate = Schemas['Gate']
export type Cause = Schemas['Cause']
export type Rule = Schemas['Rule']
export type Partner = Schemas['Partner']
export type Session = Schemas['Session']
export type Suggestion = Schemas['Suggestion']
export type Overview = Schemas['Overview']
export type JournalEntry = Schemas['JournalEntry']
export type Problem = Schemas['Problem']
export type Question = Schemas['Question']
export type BothHalves = Schemas['BothHalves']
export type DomainsImported = Schemas['DomainsImported']
export type Letter = Schemas['Letter']
export type Rearranged = Schemas['Rearranged']
export type TheirStatement = Schemas['TheirStatement']
export type Audience = Schemas['Audience']
export type AudienceLine = Schemas['AudienceLine']
export type BoardRow = Schemas['BoardRow']
export type ReachLine = Schemas['ReachLine']
export type Stated = Schemas['Stated']
export type CheckLine = Schemas['CheckLine']
export type CheckFound = Schemas['CheckFound']
export type CheckSummary = Schemas['CheckSummary']
export type Choice = Schemas['Choice']
export type Exception = Schemas['Exception']
export type Askable = Schemas['Askable']
export type Bundle = Schemas['Bundle']
export type BundleAsked = Schemas['BundleAsked']
export type BundleFor = Schemas['BundleFor']
export type Absence = Schemas['Absence']
export type ToldEvent = Schemas['ToldEvent']
export type Feed = Schemas['Feed']
export type FeedLine = Schemas['FeedLine']
export type ConnectStep = Schemas['ConnectStep']
export type House = Schemas['House']
export type FeedOut = Schemas['FeedOut']
export type FeedOutPerson = Schemas['FeedOutPerson']
export type FeedToken = Schemas['FeedToken']
export type Round = Schemas['Round']
export type ReviewsDone = Schemas['ReviewsDone']
export type Expectation = Schemas['Expectation']
export type Counterexample = Schemas['Counterexample']
export type EvidencePlan = Schemas['EvidencePlan']
export type CouldLine = Schemas['CouldLine']
export type CouldWay = Schemas['CouldWay']
export type CouldCut = Schemas['CouldCut']
export type Finding = Schemas['Finding']
export type Findings = Schemas['Findings']
export type GivenRole = Schemas['GivenRole']
export type ItemView = Schemas['ItemView']
export type PersonView = Schemas['PersonView']
export type SpaceView = Schemas['SpaceView']
export type ValueRow = Schemas['ValueRow']
export type Values = Schemas['Values']
export type Weighed = Schemas['ValueWeighed']
export type PlaceEdit = Schemas['PlaceEdit']
export type PlaceEntry = Schemas['PlaceEntry']
export type PlacesChanged = Schemas['PlacesChanged']
export type AllSettings = Schemas['AllSettings']
export type FoundThing = Schemas['FoundThing']
export type Started = Schemas['Started']
export type Draft = Schemas['Draft']
export type SystemView = Schemas['SystemView']
export type SystemKind = Schemas['SystemKind']
export type RecordsDecided = Schemas['RecordsDecided']
export type Thing = Schemas['Thing']
export type SystemSetting = Schemas['SystemSetting']
export type Counted = Schemas['Counted']
export type Trials = Schemas['Trials']
export type Trial = Schemas['Trial']
export type DatesGoing = Schemas['DatesGoing']
export type DueStep = Schemas['DueStep']
export type Request = Schemas['Request']
export type DueDays = Schemas['DueDays']
export type ListTaken = Schemas['ListTaken']
export type GuestView = Schemas['Guest']
export type GuestChange = Schemas['GuestChange']
export type GuestChanged = Schemas['GuestChanged']
export type Invited = Schemas['Invited']
export type InvitedLine = Schemas['InvitedLine']
export type InvitationOpens = Schemas['InvitationOpens']
export type LinkView = Schemas['Link']
export type MadeLink = Schemas['MadeLink']
export type DoorInvitation = Schemas['DoorInvitation']
export type DoorStep = Schemas['DoorStep']
export type Wish = Schemas['Wish']
export type RemedyOption = Schemas['RemedyOption']
export type DraftEdit = Schemas['DraftEdit']
export type Impact = Schemas['Impact']
export type Moves = Schemas['Moves']
export type MovesBy = Schemas['MovesBy']
export type Numbered = Schemas['Numbered']
export type WideNumber = Schemas['WideNumber']

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

/** What has to be given with an operation: nothing, where nothing is needed. */
type Givens<K extends Key> = object extends Given<K> ? [given?: Given<K>] : [given: Given<K>]

/**
 * Calls an operation of the contract and returns its answer, or throws a Failure. What its path, its
 * query and its body hold, and what it answers with, is as the contract says.
 */
export function call<K extends Key>(key: K, ...[given]: Givens<K>): Promise<Answered<K>> {
  return request<Answered<K>>({ key, ...given } as Sent)
}

const writing = new Map<string, Promise<unknown>>()

/** The same, sent again before it is answered, is one: a double click does nothing twice. */
function request<T>(s: Sent): Promise<T> {
  if (s.key.startsWith('GET ')) return place<T>(s)
  const same = JSON.stringify([s, inDraft()?.id])
  const before = writing.get(same)
  if (before) return before as Promise<T>
  const p = place<T>(s).finally(() => writing.delete(same))
  writing.set(same, p)
  return p
}

/** A change of policy goes into the draft that this window works in, or is a draft of its own. */
function place<T>(s: Sent): Promise<T> {
  const d = inDraft()
  const ofDrafts = s.key.includes(' /api/v1/drafts')
  if (d && !ofDrafts && towardsDraft(s).draft !== 'never') return raw<T>(within(s, d.id))
  if (!d && changesPolicy(s)) return quickly<T>(raw, within, s)
  return raw<T>(s)
}

const within = (s: Sent, draft: string): Sent => ({ ...s, headers: { ...s.headers, 'Wexillum-Draft': draft } })

/** Lets whoever is signed in prove once more that it is they; the page that shows the question sets it. */
export const proof: { ask?: () => Promise<void> } = {}

/** What weighs heavily is sent again once whoever sends it has proved anew that it is they. */
async function raw<T>(s: Sent): Promise<T> {
  try {
    return await once<T>(s)
  } catch (e) {
    if (!(e instanceof Failure) || !e.problem.type.endsWith('/fresh-sign-in') || !proof.ask) throw e
    await proof.ask()
    return once<T>(s)
  }
}

/** What is said in a body and how: a text as it is, such as a list in CSV, anything else as JSON. */
function bodyOf(s: Sent): { body?: string; headers: Record<string, string> } {
  if (s.body === undefined) return { headers: {} }
  if (s.type) return { body: s.body as string, headers: { 'Content-Type': s.type } }
  // of a PATCH the fields that are named change; null takes one away, the others stay (RFC 7396)
  const type = s.key.startsWith('PATCH ') ? 'application/merge-patch+json' : 'application/json'
  return { body: JSON.stringify(s.body), headers: { 'Content-Type': type } }
}

/** Where nobody who is signed in is expected: there, 401 does not mean that a session has ended. */
const openToAll = (s: Sent) => /^\w+ \/api\/v1\/(session(\/again)?$|door)/.test(s.key)

async function once<T>(s: Sent): Promise<T> {
  const method = s.key.slice(0, s.key.indexOf(' '))
  const { body, headers } = bodyOf(s)
  let response: Response
  try {
    response = await fetch(addressed(s), {
      method,
      credentials: 'same-origin',
      headers: {
        ...(method === 'GET' ? {} : { 'X-CSRF-Token': csrf }),
        ...(idle() ? { 'Wexillum-Idle': 'yes' } : {}),
        ...headers,
        ...s.headers,
      },
      body,
      keepalive: s.key.endsWith('/drop'), // also while the page is being left
    })
  } catch {
    const detail = 'what is shown may be old; it is tried again'
    throw new Failure({ type: 'about:blank', title: 'The service does not answer', status: 0, detail })
  }
  if (response.status === 204) return undefined as T
  const text = await response.text()
  if (response.ok && text === '') return undefined as T
  if (!response.ok) {
    let problem: Problem
    try {
      problem = JSON.parse(text) as Problem
    } catch {
      problem = { type: 'about:blank', title: `The service answered ${response.status}`, status: response.status }
    }
    if (response.status === 401 && !openToAll(s)) dispatchEvent(new Event(signedOut))
    throw new Failure(problem)
  }
  return JSON.parse(text) as T
}

/**
 * Whether a page cannot be shown because what it shows could not be read. Where a session ended while the page was there, it stays, with
 * all that was typed in it, and the session is taken up again over it.
 */
export const failed = (q: { error: unknown; data: unknown }): boolean =>
  !!q.error && !(q.data !== undefined && q.error instanceof Failure && q.error.problem.status === 401)

/** The event that a session has ended in the middle of something. */
export const signedOut = 'wexillum.signed-out'

/** The address of what an operation answers with, for a link. A link carries no header: it names the draft that this window works in. */
export function linked<K extends Key>(key: K, ...[given]: Givens<K>): string {
  const s = { key, ...given } as Sent
  const draft = towardsDraft(s).draft === 'ask' ? inDraft()?.id : undefined
  return addressed({ ...s, query: { ...s.query, draft } })
}

const draftHead = (): Record<string, string> => {
  const d = inDraft()
  return d ? { 'Wexillum-Draft': d.id } : {}
}

/** Posts a list and hands over what is found of it line by line, while it comes. */
export async function check(
  given: Given<'POST /api/v1/check'>['query'],
  list: string,
  found: (x: CheckFound) => void,
  signal: AbortSignal,
): Promise<void> {
  const response = await fetch(addressed({ key: 'POST /api/v1/check', query: given }), {
    method: 'POST',
    credentials: 'same-origin',
    headers: { 'Content-Type': 'text/csv', 'X-CSRF-Token': csrf, ...draftHead() },
    body: list,
    signal,
  })
  if (!response.ok || !response.body) throw new Failure((await response.json()) as Problem)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { done, value } = await reader.read()
    if (done) break
    const lines = (rest + value).split('\n')
    rest = lines.pop() ?? ''
    for (const l of lines) if (l) found(JSON.parse(l) as CheckFound)
  }
}

/** The services and directions that a partner can be opened for. */
export const services = ['directory', 'spaces', 'chat', 'meetings', 'files', 'mail', 'reports'] as const

/** Weighs a draft and hears how far it is. */
type Weighable = Given<'GET /api/v1/drafts/{id}/impact'>
export async function weigh({ path, query }: Weighable, progress: (part: number) => void, signal: AbortSignal): Promise<Impact> {
  const response = await fetch(addressed({ key: 'GET /api/v1/drafts/{id}/impact', path, query: { ...query, progress: true } }), {
    credentials: 'same-origin',
    signal,
  })
  if (!response.ok || !response.body) throw new Failure((await response.json()) as Problem)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { done, value } = await reader.read()
    rest += value ?? ''
    const lines = rest.split('\n')
    rest = lines.pop() ?? ''
    for (const l of lines) {
      if (!l) continue
      const x = JSON.parse(l) as { part?: number; impact?: Impact; problem?: Problem }
      if (x.problem) throw new Failure(x.problem)
      if (x.impact) return x.impact
      if (x.part !== undefined) progress(x.part)
    }
    if (done) throw new Failure({ type: 'about:blank', title: 'The service stopped answering', status: 0 })
  }
}
