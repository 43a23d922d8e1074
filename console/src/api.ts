import type { components } from './contract.gen'
import { changesPolicy, inDraft, quickly } from './drafts/quick'
import { towardsDraft } from './operations'
import { idle } from './parts/activity'

type Schemas = components['schemas']
export type Answer = Schemas['Answer']
export type Gate = Schemas['Gate']
export type Cause = Schemas['Cause']
export type Rule = Schemas['Rule']
export type Partner = Schemas['Partner']
export type Session = Schemas['Session']
export type Suggestion = Schemas['Suggestion']
export type Overview = Schemas['Overview']
export type JournalEntry = Schemas['JournalEntry']
export type Action = Schemas['Action']
export type Problem = Schemas['Problem']
export type Question = Schemas['Question']
export type Advice = Schemas['Advice']
export type BothHalves = Schemas['BothHalves']
export type DomainsImported = Schemas['DomainsImported']
export type Letter = Schemas['Letter']
export type Rearranged = Schemas['Rearranged']
export type TheirPerson = Schemas['TheirPerson']
export type TheirStatement = Schemas['TheirStatement']
export type Audience = Schemas['Audience']
export type AudienceLine = Schemas['AudienceLine']
export type Board = Schemas['Board']
export type BoardRow = Schemas['BoardRow']
export type Diff = Schemas['Diff']
export type Reach = Schemas['Reach']
export type ReachLine = Schemas['ReachLine']
export type Stated = Schemas['Stated']
export type Bar = Schemas['Bar']
export type CheckLine = Schemas['CheckLine']
export type CheckFound = Schemas['CheckFound']
export type CheckSummary = Schemas['CheckSummary']
export type Choice = Schemas['Choice']
export type Choices = Schemas['Choices']
export type Exception = Schemas['Exception']
export type Askable = Schemas['Askable']
export type Bundle = Schemas['Bundle']
export type BundleAsked = Schemas['BundleAsked']
export type BundleFor = Schemas['BundleFor']
export type Gift = Schemas['Gift']
export type Absence = Schemas['Absence']
export type OpenSession = Schemas['OpenSession']
export type ToldEvent = Schemas['ToldEvent']
export type Factor = Schemas['Factor']
export type FactorBegun = Schemas['FactorBegun']
export type Feed = Schemas['Feed']
export type FeedApplied = Schemas['FeedApplied']
export type FeedLine = Schemas['FeedLine']
export type Connect = Schemas['Connect']
export type ConnectStep = Schemas['ConnectStep']
export type Webhook = Schemas['Webhook']
export type House = Schemas['House']
export type Passkey = Schemas['Passkey']
export type FeedPerson = Schemas['FeedPerson']
export type FeedOut = Schemas['FeedOut']
export type FeedOutPerson = Schemas['FeedOutPerson']
export type FeedSent = Schemas['FeedSent']
export type FeedLook = Schemas['FeedLook']
export type FeedToken = Schemas['FeedToken']
export type FeedTwin = Schemas['FeedTwin']
export type Round = Schemas['Round']
export type ReviewLine = Schemas['ReviewLine']
export type ReviewsDone = Schemas['ReviewsDone']
export type Expectation = Schemas['Expectation']
export type Counterexample = Schemas['Counterexample']
export type EvidencePlan = Schemas['EvidencePlan']
export type Evidence = Schemas['Evidence']
export type Verified = Schemas['Verified']
export type History = Schemas['History']
export type Could = Schemas['Could']
export type CouldLine = Schemas['CouldLine']
export type CouldWay = Schemas['CouldWay']
export type CouldCut = Schemas['CouldCut']
export type CouldCuts = Schemas['CouldCuts']
export type Spare = Schemas['Spare']
export type Finding = Schemas['Finding']
export type Findings = Schemas['Findings']
export type GivenRole = Schemas['GivenRole']
export type Imported = Schemas['Imported']
export type ItemView = Schemas['ItemView']
export type PersonBrief = Schemas['PersonBrief']
export type PersonView = Schemas['PersonView']
export type SpaceBrief = Schemas['SpaceBrief']
export type SpaceView = Schemas['SpaceView']
export type ValueRow = Schemas['ValueRow']
export type Values = Schemas['Values']
export type Weighed = Schemas['ValueWeighed']
export type Pattern = Schemas['Pattern']
export type PlaceEdit = Schemas['PlaceEdit']
export type PlaceEntry = Schemas['PlaceEntry']
export type PlacesChanged = Schemas['PlacesChanged']
export type AllSettings = Schemas['AllSettings']
export type TermsVersion = Schemas['TermsVersion']
export type FoundThing = Schemas['FoundThing']
export type HelpFound = Schemas['HelpFound']
export type HelpPage = Schemas['HelpPage']
export type Loaded = Schemas['Loaded']
export type Posture = Schemas['Posture']
export type Started = Schemas['Started']
export type PeopleMatrix = Schemas['PeopleMatrix']
export type Would = Schemas['Would']
export type Draft = Schemas['Draft']
export type SystemView = Schemas['SystemView']
export type SystemKind = Schemas['SystemKind']
export type SystemRecord = Schemas['SystemRecord']
export type RecordsDecided = Schemas['RecordsDecided']
export type Thing = Schemas['Thing']
export type SystemSetting = Schemas['SystemSetting']
export type Counted = Schemas['Counted']
export type Trials = Schemas['Trials']
export type Trial = Schemas['Trial']
export type Dialect = Schemas['Dialect']
export type Remedies = Schemas['Remedies']
export type Dates = Schemas['Dates']
export type DatesGoing = Schemas['DatesGoing']
export type DatesReleased = Schemas['DatesReleased']
export type DueStep = Schemas['DueStep']
export type Request = Schemas['Request']
export type DueDays = Schemas['DueDays']
export type DueSupposed = Schemas['DueSupposed']
export type ListKind = Schemas['ListKind']
export type ListTaken = Schemas['ListTaken']
export type GuestShort = Schemas['GuestShort']
export type GuestView = Schemas['Guest']
export type GuestChange = Schemas['GuestChange']
export type GuestChanged = Schemas['GuestChanged']
export type Invited = Schemas['Invited']
export type InvitedLine = Schemas['InvitedLine']
export type InvitationOpens = Schemas['InvitationOpens']
export type LinkView = Schemas['Link']
export type MadeLink = Schemas['MadeLink']
export type Offer = Schemas['Offer']
export type Own = Schemas['Own']
export type DoorInvitation = Schemas['DoorInvitation']
export type DoorStep = Schemas['DoorStep']
export type OutboxMessage = Schemas['OutboxMessage']
export type Wish = Schemas['Wish']
export type RemedyOption = Schemas['RemedyOption']
export type DraftBrief = Schemas['DraftBrief']
export type DraftEdit = Schemas['DraftEdit']
export type Impact = Schemas['Impact']
export type ImpactLine = Schemas['ImpactLine']
export type Moves = Schemas['Moves']
export type MovesBy = Schemas['MovesBy']
export type Revision = Schemas['Revision']
export type RevisionView = Schemas['RevisionView']
export type Numbers = Schemas['Numbers']
export type Numbered = Schemas['Numbered']
export type NumberLines = Schemas['NumberLines']
export type RuleAudience = Schemas['RuleAudience']
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

/** Calls the contract and returns its answer, or throws a Failure. */
export function call<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
  return request(method, path, body === undefined ? undefined : JSON.stringify(body), { ...(body === undefined ? {} : { 'Content-Type': 'application/json' }), ...headers })
}

/** Changes the fields that are named; null takes one away, the others stay (RFC 7396). */
export function patch<T>(path: string, fields: Record<string, unknown>, headers: Record<string, string> = {}): Promise<T> {
  return request('PATCH', path, JSON.stringify(fields), { 'Content-Type': 'application/merge-patch+json', ...headers })
}

/** Posts a text as it is, such as a list in CSV. */
export function send<T>(path: string, text: string, type: string): Promise<T> {
  return request('POST', path, text, { 'Content-Type': type })
}

const writing = new Map<string, Promise<unknown>>()

/** The same, sent again before it is answered, is one: a double click does nothing twice. */
function request<T>(method: string, path: string, body: string | undefined, headers: Record<string, string>): Promise<T> {
  if (method === 'GET') return place(method, path, body, headers)
  const key = `${method} ${path} ${body ?? ''} ${inDraft()?.id ?? ''}`
  const same = writing.get(key)
  if (same) return same as Promise<T>
  const p = place<T>(method, path, body, headers).finally(() => writing.delete(key))
  writing.set(key, p)
  return p
}

/** A change of policy goes into the draft that this window works in, or is a draft of its own. */
function place<T>(method: string, path: string, body: string | undefined, headers: Record<string, string>): Promise<T> {
  const d = inDraft()
  if (d && !path.startsWith('/api/v1/drafts') && towardsDraft(method, path).draft !== 'never') return raw(method, path, body, { ...headers, 'Wexillum-Draft': d.id })
  if (!d && changesPolicy(method, path)) return quickly(raw, method, path, body, headers)
  return raw(method, path, body, headers)
}

/** Lets whoever is signed in prove once more that it is they; the page that shows the question sets it. */
export const proof: { ask?: () => Promise<void> } = {}

/** What weighs heavily is sent again once whoever sends it has proved anew that it is they. */
async function raw<T>(method: string, path: string, body: string | undefined, headers: Record<string, string>): Promise<T> {
  try {
    return await once<T>(method, path, body, headers)
  } catch (e) {
    if (!(e instanceof Failure) || !e.problem.type.endsWith('/fresh-sign-in') || !proof.ask) throw e
    await proof.ask()
    return once<T>(method, path, body, headers)
  }
}

async function once<T>(method: string, path: string, body: string | undefined, headers: Record<string, string>): Promise<T> {
  let response: Response
  try {
    response = await fetch(path, {
      method,
      credentials: 'same-origin',
      headers: { ...(method === 'GET' ? {} : { 'X-CSRF-Token': csrf }), ...(idle() ? { 'Wexillum-Idle': 'yes' } : {}), ...headers },
      body,
      keepalive: path.endsWith('/drop'), // also while the page is being left
    })
  } catch {
    throw new Failure({ type: 'about:blank', title: 'The service does not answer', status: 0, detail: 'what is shown may be old; it is tried again' })
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
    if (response.status === 401 && path !== '/api/v1/session' && path !== '/api/v1/session/again' && !path.startsWith('/api/v1/door')) dispatchEvent(new Event(signedOut))
    throw new Failure(problem)
  }
  return JSON.parse(text) as T
}

/** The event that a session has ended in the middle of something. */
export const signedOut = 'wexillum.signed-out'

/** A link to something that carries no header names the draft that this window works in. */
export function linked(path: string): string {
  const d = inDraft()
  return d ? `${path}${path.includes('?') ? '&' : '?'}draft=${encodeURIComponent(d.id)}` : path
}

const draftHead = (): Record<string, string> => {
  const d = inDraft()
  return d ? { 'Wexillum-Draft': d.id } : {}
}

/** Gets a text as it is. */
export async function text(path: string): Promise<string> {
  const response = await fetch(path, { credentials: 'same-origin', headers: draftHead() })
  if (!response.ok) throw new Failure((await response.json()) as Problem)
  return response.text()
}

/** Posts a list and hands over what is found of it line by line, while it comes. */
export async function check(params: Record<string, string | undefined>, list: string, found: (x: CheckFound) => void, signal: AbortSignal): Promise<void> {
  const response = await fetch(`/api/v1/check${query(params)}`, { method: 'POST', credentials: 'same-origin', headers: { 'Content-Type': 'text/csv', 'X-CSRF-Token': csrf, ...draftHead() }, body: list, signal })
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

export const query = (params: Record<string, string | undefined>) => {
  const q = new URLSearchParams()
  for (const [k, v] of Object.entries(params)) if (v) q.set(k, v)
  const s = q.toString()
  return s ? `?${s}` : ''
}

/** The services and directions that a partner can be opened for. */
export const services = ['directory', 'spaces', 'chat', 'meetings', 'files', 'mail', 'reports'] as const

/** Weighs a draft and hears how far it is. */
export async function weigh(path: string, progress: (part: number) => void, signal: AbortSignal): Promise<Impact> {
  const response = await fetch(path, { credentials: 'same-origin', signal })
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
