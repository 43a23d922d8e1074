import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, type JournalEntry } from '../api'
import { UndoDialog } from '../places/PlaceDialog'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { saidOf, pageOf } from './words'

/** What a kind of entry is called. */
const kindName = (kind: string) =>
  ({
    system_setting: 'setting of a system',
    system_record: 'record in a system',
    bar: 'barred',
    let_go: 'let go',
    judgement: 'expectation judged',
    noticed: 'finding',
    evidence: 'record of reach',
    personal: 'private domain',
    fed: 'person in a feed',
    sent: 'person sent by a feed',
    feed_out: 'feed that goes out',
    told: 'event of a partner',
    webhook: 'receiver of events',
    house_sign_in: 'sign-in of our own',
    signing_key: 'key that signs',
    dates_from: 'dates count from',
    evidence_plan: 'plan of records of reach',
    acceptance: 'finding accepted',
    restored: 'backup brought back',
  })[kind] ?? kind.replaceAll('_', ' ')

/** What a change is undone of here. */
const places: string[] = ['person', 'group', 'space', 'item', 'domain_list', 'meeting', 'grant', 'link', 'forwarder', 'contact']

export function JournalPage({ role }: { role: string }) {
  const [params, setParams] = useSearchParams()
  const kind = params.get('kind') ?? ''
  const pages = useInfiniteQuery({
    queryKey: ['journal', 'all', kind],
    queryFn: ({ pageParam }) => call('GET /api/v1/journal', { query: { kind, cursor: pageParam, limit: 100 } }),
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
        <Form.Select
          size="sm"
          aria-label="Kind"
          value={kind}
          onChange={(e) => setParams(e.target.value ? { kind: e.target.value } : {}, { replace: true })}
        >
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
          <Button
            size="sm"
            variant="link"
            onClick={() => setUndoing(true)}
            aria-label={`Undo the change of ${when(first.at)} to ${first.id}`}
          >
            Undo
          </Button>
        )}
        {undoing && <UndoDialog seq={first.part_of} close={() => setUndoing(false)} />}
      </div>
      <ul>
        {shown.map((e) => (
          <li key={e.seq}>
            <span className="tag">{kindName(e.kind)}</span>{' '}
            {e.id !== about && <Named e={e} text={about && e.id.startsWith(`${about} `) ? e.id.slice(about.length + 1) : e.id} />}{' '}
            <span className="log-diff">{saidOf(e) === first.why ? '' : saidOf(e)}</span>
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
