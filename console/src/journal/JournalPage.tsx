import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, query, type JournalEntry } from '../api'
import { UndoDialog } from '../places/PlaceDialog'
import { Empty, Page, until, Waiting, when, Wrong } from '../parts/bits'

/** What a kind of entry is called. */
const kindName = (kind: string) => ({ system_setting: 'setting of a system', system_record: 'record in a system', bar: 'barred', let_go: 'let go', judgement: 'expectation judged', noticed: 'finding', evidence: 'record of reach', personal: 'private domain', fed: 'person in a feed', sent: 'person sent by a feed', feed_out: 'feed that goes out', told: 'event of a partner', webhook: 'receiver of events', house_sign_in: 'sign-in of our own', signing_key: 'key that signs', dates_from: 'dates count from', evidence_plan: 'plan of records of reach', acceptance: 'finding accepted', restored: 'backup brought back' })[kind] ?? kind.replaceAll('_', ' ')
type Leaf = string | number | boolean | null | Leaf[] | { [k: string]: Leaf }

/** What a change is undone of here. */
const places: string[] = ['person', 'group', 'space', 'item', 'domain_list', 'meeting', 'grant', 'link', 'forwarder', 'contact']

export function JournalPage({ role }: { role: string }) {
  const [params, setParams] = useSearchParams()
  const kind = params.get('kind') ?? ''
  const pages = useInfiniteQuery({
    queryKey: ['journal', 'all', kind],
    queryFn: ({ pageParam }) => call<{ entries: JournalEntry[]; next: string; kinds: string[] }>('GET', `/api/v1/journal${query({ kind, cursor: pageParam, limit: '100' })}`),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
  })
  const entries = pages.data?.pages.flatMap((p) => p.entries) ?? []
  const changes = changesOf(entries)
  const kinds = pages.data?.pages[0]?.kinds ?? (kind ? [kind] : [])
  return (
    <Page
      title="Journal"
      lead="Who changed what, when and why, with the values before and after. Entries are never removed; only the names of forgotten guests are."
      tools={
        <Form.Select size="sm" aria-label="Kind" value={kind} onChange={(e) => setParams(e.target.value ? { kind: e.target.value } : {}, { replace: true })}>
          <option value="">Everything</option>
          {kinds.map((k) => (
            <option key={k} value={k}>
              {kindName(k)}
            </option>
          ))}
        </Form.Select>
      }
    >
      {pages.error && <Wrong error={pages.error} retry={() => void pages.refetch()} />}
      {pages.isLoading && <Waiting what="Reading the journal" />}
      {pages.data && entries.length === 0 && <Empty>Nothing of this kind has changed yet.</Empty>}
      <ol className="log">
        {changes.map((c) => (
          <Change key={`${c[0].seq}`} entries={c} undo={role !== 'auditor'} />
        ))}
      </ol>
      {pages.hasNextPage && (
        <Button variant="outline-primary" size="sm" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Older entries
        </Button>
      )}
    </Page>
  )
}

/** Puts entries together that were made in one change. */
export function changesOf(entries: JournalEntry[]): JournalEntry[][] {
  const changes: JournalEntry[][] = []
  for (const e of entries) {
    const last = changes[changes.length - 1]
    if (last && last[0].part_of === e.part_of) last.push(e)
    else changes.push([e])
  }
  return changes
}

/** One change: who, when, why, and what became of each thing. About is the address of a page that is about it alone. */
export function Change({ entries, about, undo }: { entries: JournalEntry[]; about?: string; undo?: boolean }) {
  const [all, setAll] = useState(false)
  const [undoing, setUndoing] = useState(false)
  const first = entries[0]
  const undoable = undo && entries.every((e) => places.includes(e.kind))
  const shown = all ? entries : entries.slice(0, 3)
  return (
    <li>
      <div className="log-head">
        <time dateTime={first.at}>{when(first.at)}</time>
        <b>{first.who}</b>
        <span className="quiet">{first.why}</span>
        <span className="log-rev">revision {first.revision}</span>
        {undoable && (
          <Button size="sm" variant="link" onClick={() => setUndoing(true)} aria-label={`Undo the change of ${when(first.at)} to ${first.id}`}>
            Undo
          </Button>
        )}
        {undoing && <UndoDialog seq={first.part_of} close={() => setUndoing(false)} />}
      </div>
      <ul>
        {shown.map((e) => (
          <li key={e.seq}>
            <span className="tag">{kindName(e.kind)}</span> {e.id !== about && <Named e={e} text={about && e.id.startsWith(`${about} `) ? e.id.slice(about.length + 1) : e.id} />} <span className="log-diff">{saidOf(e) === first.why ? '' : saidOf(e)}</span>
          </li>
        ))}
      </ul>
      {entries.length > 3 && (
        <button type="button" className="chain-toggle" aria-expanded={all} onClick={() => setAll(!all)}>
          {all ? 'Show less' : `Show all ${entries.length} of this change on this page`}
        </button>
      )}
    </li>
  )
}

/** The page of what an entry is about; none where it has none. */
function pageOf(e: JournalEntry): string | undefined {
  const id = encodeURIComponent(e.id)
  switch (e.kind) {
    case 'partner':
      return `/partners/${id}`
    case 'person':
      return `/people/${id}`
    case 'space':
      return `/spaces/${id}`
    case 'meeting':
      return `/meetings/${id}`
    case 'guest':
      return `/guests/${id}`
    case 'rule':
      return `/rules?rule=${id}`
    case 'draft':
      return `/drafts/${id}`
    case 'system':
      return `/systems/${id}`
    case 'system_record': {
      const [system, kind] = e.id.split(' ')
      return `/systems/${encodeURIComponent(system)}/${kind}`
    }
    case 'noticed':
      return '/findings'
    case 'system_setting':
      return `/systems/${encodeURIComponent(e.id.split(' ')[0])}`
    case 'exception':
      return `/exceptions#${id}`
    case 'grant':
      if (e.id.startsWith('partner:')) return `/partners/${encodeURIComponent(e.id.split(' ')[0].slice('partner:'.length))}`
      if (e.id.startsWith('domain:')) return undefined
      return e.id.startsWith('group:') ? '/groups' : `/guests/${encodeURIComponent(e.id.split(' ')[0])}`
    default:
      return undefined
  }
}

function Named({ e, text }: { e: JournalEntry; text: string }) {
  const to = e.now ? pageOf(e) : undefined
  const shown = e.kind === 'grant' ? text.replace(/ \d{4}-\d\d-\d\dT\S+$/, '') : text
  return to ? (
    <Link to={to}>
      <code>{shown}</code>
    </Link>
  ) : (
    <code>{shown}</code>
  )
}

/** Says what an entry changed, from what to what. */
export function saidOf(e: JournalEntry): string {
  if (e.kind === 'draft' && e.now) return ofDraft(e.was, e.now)
  if (e.kind === 'step' && e.now) return ofStep(e.now)
  if (e.kind === 'sign_in' && e.now) return ofSignIn(e.now)
  if (e.kind === 'system_record' && e.who !== 'wexillum') return ofDecided(e)
  if ((e.kind === 'system_setting' && e.now) || e.kind === 'system_record') return ofSetting(e)
  if (e.kind === 'sessions') return 'signed out everywhere'
  if (e.kind === 'noticed') return ofNoticed(e)
  return difference(e.was, e.now)
}

const ways: Record<string, string> = { console: ' to the console', client: ' with the client', code: ' with a code', partner: ' with their own organisation’s sign-in' }

/** Says what a finding that came says, or said before it went. */
function ofNoticed(e: JournalEntry): string {
  const x = JSON.parse(e.now ?? e.was ?? '{}') as { cause?: string; came?: number; gone?: number }
  if (x.cause === undefined) return `${x.came ?? 0} came, ${x.gone ?? 0} went`
  return `${e.now ? 'noticed' : 'no longer'}: ${x.cause}`
}

/** Says how the setting of a system stands now, as the journal has it in words. */
function ofSetting(e: JournalEntry): string {
  return e.why ?? ''
}

/** Says what somebody decided about a record of a system. */
function ofDecided(e: JournalEntry): string {
  if (!e.was && !e.now) return ''
  if (!e.now) return 'to be taken away there'
  if (!e.was) return 'to be written there'
  return e.was === e.now ? 'let be as it stands there' : `to be written there; ${difference(e.was, e.now)}`
}

/** Says who came in, how and from where, or was refused. */
function ofSignIn(doc: string): string {
  try {
    const x = JSON.parse(doc) as { way?: string; from?: string; result?: string }
    return `${x.result === 'in' ? 'signed in' : 'was refused, signing in'}${ways[x.way ?? ''] ?? ''}${x.from ? `, from ${x.from}` : ''}`
  } catch {
    return 'signed in'
  }
}

/** Says what was carried out, and when it was due. */
function ofStep(doc: string): string {
  try {
    const x = JSON.parse(doc) as { kind: string; at: string; role?: string; resource?: string; late?: string }
    return `${x.kind.replaceAll('_', ' ')}${x.resource ? `: ${x.role} on ${x.resource}` : ''}, due ${until(x.at)}${x.late ? ', late' : ''}`
  } catch {
    return 'carried out'
  }
}

/** Says of a draft what became of it; what it changes stands on its page. */
function ofDraft(was: string | undefined, now: string): string {
  try {
    const edits = (d: { edits?: unknown[] } | undefined) => d?.edits?.length ?? 0
    const a = was ? (JSON.parse(was) as { state: string; edits?: unknown[] }) : undefined
    const b = JSON.parse(now) as { name: string; state: string; edits?: unknown[]; published?: number }
    const said = [b.name]
    const count = (n: number) => (n === 1 ? '1 edit' : `${n} edits`)
    if (a?.state !== b.state) said.push(`${a ? `${a.state} → ` : ''}${b.published ? `published as revision ${b.published}` : b.state}`)
    if (edits(a) !== edits(b)) said.push(a ? `${count(edits(a))} → ${count(edits(b))}` : count(edits(b)))
    else if (a && a.state === b.state) said.push('an edit was changed')
    return said.join(', ')
  } catch {
    return 'changed'
  }
}

/** Says in short what changed between two docs. */
function difference(was?: string, now?: string): string {
  try {
    const whole = (doc: string) =>
      Object.entries(JSON.parse(doc) as Record<string, Leaf>)
        .map(([k, v]) => `${k}: ${flat(v)}`)
        .join('; ')
    if (!was && !now) return 'done'
    if (!was) return `made${whole(now!) ? `: ${whole(now!)}` : ''}`
    if (!now) return `removed${whole(was) ? `; it was ${whole(was)}` : ''}`
    const a = JSON.parse(was) as Record<string, Leaf>
    const b = JSON.parse(now) as Record<string, Leaf>
    const out: string[] = []
    for (const k of new Set([...Object.keys(a), ...Object.keys(b)])) {
      const x = flat(a[k])
      const y = flat(b[k])
      if (x !== y) out.push(`${k}: ${x} → ${y}`)
    }
    return out.join('; ') || 'the same'
  } catch {
    return 'changed'
  }
}

const flat = (v: Leaf | undefined): string =>
  v === undefined || v === null ? '–' : Array.isArray(v) ? v.map(flat).join(', ') : typeof v === 'object' ? Object.entries(v).map(([k, x]) => `${k} ${flat(x)}`).join(', ') : String(v)
