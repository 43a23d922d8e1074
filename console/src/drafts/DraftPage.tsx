import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Alert, Button, Form, ProgressBar } from 'react-bootstrap'
import { Link, useNavigate, useParams } from 'react-router'
import { call, query, weigh, type Draft, type Session } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { Despite } from '../expect/Breaks'
import { EditList } from './EditList'
import { ImpactPicture } from './Impact'
import { ImpactTables } from './ImpactTables'
import { inDraft, workIn } from './quick'
import { useRefresh } from '../parts/change'

/** A draft: its difference, its impact, and publishing it. */
export function DraftPage({ session }: { session: Session }) {
  const { id = '' } = useParams()
  const client = useQueryClient()
  const refresh = useRefresh()
  const navigate = useNavigate()
  const at = `/api/v1/drafts/${encodeURIComponent(id)}`
  const draft = useQuery({ queryKey: ['draft', id], queryFn: () => call<Draft>('GET', at) })
  const [day, setDay] = useState('')
  const [giving, setGiving] = useState(false)
  const d = draft.data
  const over = d?.state === 'published' || d?.state === 'dropped'
  const weighable = !!d && !over && d.conflicts.length === 0 && d.edits.length + d.releases.length > 0
  const [part, setPart] = useState(0)
  const impact = useQuery({
    queryKey: ['impact', id, d?.digest, day],
    queryFn: ({ signal }) => {
      setPart(0)
      return weigh(`${at}/impact${query({ at: day, progress: 'true' })}`, setPart, signal)
    },
    enabled: weighable,
    staleTime: 30_000,
  })
  const put = (x: Draft) => {
    client.setQueryData(['draft', id], x)
    void client.invalidateQueries({ queryKey: ['drafts'] })
  }
  const change = useMutation({ mutationFn: ({ path, body }: { path: string; body: unknown }) => call<Draft>('POST', `${at}/${path}`, body), onSuccess: put })
  const drop = useMutation({
    mutationFn: () => call('POST', `${at}/drop`, {}),
    onSuccess: () => {
      if (inDraft()?.id === d?.id) workIn(null)
      void refresh()
      navigate('/drafts', { state: { dropped: { id, name: d?.name } } })
    },
  })
  const admin = session.role === 'administrator'
  const may = admin || session.role === 'keeper'
  if (draft.error) return <Page title="Draft"><Wrong error={draft.error} retry={() => void draft.refetch()} /></Page>
  if (!d) return <Waiting what="Reading the draft" />
  const working = inDraft()?.id === d.id
  return (
    <Page
      title={d.name}
      lead={
        d.state === 'published' ? (
          <>
            Published as <Link to={`/revisions/${d.published}`}>revision {d.published}</Link>
            {d.weighed ? `: ${d.weighed.why}` : ''}
          </>
        ) : (
          `${{ open: 'Open', waiting: 'Waits for confirmation', set: 'Set to be published', dropped: 'Given up' }[d.state]}; made by ${d.made_by}, ${when(d.made)}, on revision ${d.base}`
        )
      }
      tools={
        may && !over ? (
          <>
            <Button
              size="sm"
              variant={working ? 'outline-secondary' : 'primary'}
              onClick={() => {
                workIn(working ? null : { id: d.id, name: d.name })
                void refresh()
              }}
            >
              {working ? 'Leave the draft' : 'Work in this draft'}
            </Button>
            <Button size="sm" variant="outline-danger" disabled={drop.isPending} onClick={() => setGiving(true)}>
              Give up
            </Button>
          </>
        ) : undefined
      }
    >
      {change.error && <Wrong error={change.error} />}
      {giving && (
        <AskDialog title={`Give up ${d.name}?`} leave="Keep it" submit="Give it up" danger disabled={drop.isPending} error={drop.error} close={() => setGiving(false)} onSubmit={() => drop.mutate()}>
          <p>{d.edits.length === 0 ? 'It changes nothing so far.' : `Its ${d.edits.length === 1 ? 'edit goes' : `${d.edits.length} edits go`} with it.`} Nothing that is in force changes. It can be taken back, here and under Drafts.</p>
        </AskDialog>
      )}
      {d.state === 'open' && d.note && <Alert variant="warning">It is open again: {d.note}.</Alert>}
      {d.state === 'dropped' && may && (
        <Alert variant="info">
          It was given up.{' '}
          <Button size="sm" variant="outline-secondary" disabled={change.isPending} onClick={() => change.mutate({ path: 'restore', body: {} })}>
            Take it back
          </Button>
        </Alert>
      )}
      {d.moved && <p className="quiet" role="status">Brought up to date with revision {d.revision}, which was published meanwhile.</p>}
      {d.conflicts.map((c) => (
        <section className="conflict" key={c.kind + c.id} aria-label={`Conflict: ${c.title}`}>
          <h2>{c.title}: changed meanwhile</h2>
          <div className="conflict-sides">
            <div>
              <h3>The draft</h3>
              {c.mine.map((x, i) => (
                <p key={i}>
                  {x.field}: <del>{x.was}</del> <ins>{x.now}</ins>
                </p>
              ))}
              <Button size="sm" disabled={change.isPending} onClick={() => change.mutate({ path: 'settle', body: { kind: c.kind, id: c.id, keep: 'draft' } })}>
                Keep the draft’s
              </Button>
            </div>
            <div>
              <h3>In force now</h3>
              {c.theirs.map((x, i) => (
                <p key={i}>
                  {x.field}: <del>{x.was}</del> <ins>{x.now}</ins>
                </p>
              ))}
              <Button size="sm" variant="outline-primary" disabled={change.isPending} onClick={() => change.mutate({ path: 'settle', body: { kind: c.kind, id: c.id, keep: 'live' } })}>
                Take what is in force
              </Button>
            </div>
          </div>
        </section>
      ))}
      {d.state === 'waiting' && d.weighed && <Waits d={d} me={session} change={(path, body) => change.mutate({ path, body })} busy={change.isPending} />}
      {d.state === 'set' && d.weighed && (
        <Alert variant="info">
          It will be published {when(d.weighed.publish_at ?? '')}: {d.weighed.why}{' '}
          {may && (
            <Button size="sm" variant="outline-secondary" onClick={() => change.mutate({ path: 'withdraw', body: {} })}>
              Open it again
            </Button>
          )}
        </Alert>
      )}
      {d.edits.length === 0 && d.releases.length === 0 && d.conflicts.length === 0 && <Empty>It changes nothing yet. Work in it, then change rules, partners, domains or exceptions as always: what you change goes into the draft.</Empty>}
      {weighable && (
        <section aria-labelledby="h-impact" className="impact-section">
          <header className="section-head">
            <h2 id="h-impact">Impact</h2>
            <Form.Group controlId="impact-day" className="inline-form">
              <Form.Label className="m-0">on</Form.Label>
              <Form.Control size="sm" type="date" value={day} onChange={(e) => setDay(e.target.value)} />
            </Form.Group>
          </header>
          {impact.error && <Wrong error={impact.error} retry={() => void impact.refetch()} />}
          {impact.isFetching && !impact.data && (
            <>
              <ProgressBar now={part * 100} aria-label="Weighing" />
              <p className="quiet">Weighing who gains and who loses. Leaving the page stops it.</p>
            </>
          )}
          {impact.data && <ImpactPicture x={impact.data} />}
        </section>
      )}
      {weighable && d.state === 'open' && admin && <PublishForm d={d} zone={session.zone} digest={impact.data?.digest} second={impact.data?.second ?? false} breaks={(impact.data?.breaks?.length ?? 0) > 0} publish={(body) => change.mutate({ path: 'publish', body })} busy={change.isPending} />}
      {d.edits.length > 0 && (
        <section aria-labelledby="h-edits">
          <h2 id="h-edits">{d.edits.length === 1 ? '1 edit' : `${d.edits.length} edits`}</h2>
          <EditList edits={d.edits} undo={may && !over ? (e) => change.mutate({ path: 'undo', body: { kind: e.kind, id: e.id } }) : undefined} busy={change.isPending} />
        </section>
      )}
      {d.releases.length > 0 && (
        <section>
          <h2>Released again</h2>
          <ul className="edits">
            {d.releases.map((r) => (
              <li key={r.where + r.rule}>
                <code>{r.where}</code>: {r.rule} {r.value}, which publishing had held back
              </li>
            ))}
          </ul>
        </section>
      )}
      {impact.data && <ImpactTables x={impact.data} download={`${at}/impact/lines${query({ at: day })}`} />}
    </Page>
  )
}

function Waits({ d, me, change, busy }: { d: Draft; me: Session; change: (path: string, body: unknown) => void; busy: boolean }) {
  const w = d.weighed!
  return (
    <Alert variant="warning" className="waits">
      <span>
        {w.by} asks to publish this{w.publish_at ? ` ${when(w.publish_at)}` : ''}: {w.why}. {w.by === me.name ? 'Somebody else must confirm it.' : ''}
      </span>
      <span className="tools">
        {me.role === 'administrator' && w.by !== me.name && (
          <Button size="sm" disabled={busy} onClick={() => change('confirm', { digest: w.digest })}>
            Confirm exactly this
          </Button>
        )}
        <Button size="sm" variant="outline-secondary" disabled={busy} onClick={() => change('withdraw', {})}>
          Open it again
        </Button>
      </span>
    </Alert>
  )
}

function PublishForm({ d, zone, digest, second, breaks, publish, busy }: { d: Draft; zone?: string; digest?: string; second: boolean; breaks: boolean; publish: (body: unknown) => void; busy: boolean }) {
  const [why, setWhy] = useState('')
  const [at, setAt] = useState('')
  const [despite, setDespite] = useState('')
  return (
    <Form
      className="publish-form"
      aria-label="Publish"
      onSubmit={(e) => {
        e.preventDefault()
        publish({ why: why.trim(), digest, ...(at ? { at } : {}), ...(breaks ? { despite: despite.trim() } : {}) })
      }}
    >
      <Form.Group controlId="p-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} required maxLength={1000} onChange={(e) => setWhy(e.target.value)} placeholder={d.back ? `to go back to revision ${d.back}` : ''} />
      </Form.Group>
      <Form.Group controlId="p-at">
        <Form.Label>
          At <span className="quiet">in {zone ?? 'the organisation’s time'}; empty: now</span>
        </Form.Label>
        <Form.Control size="sm" type="datetime-local" value={at} onChange={(e) => setAt(e.target.value)} />
      </Form.Group>
      {breaks && <Despite value={despite} set={setDespite} />}
      <Button size="sm" type="submit" disabled={busy || digest === undefined || why.trim() === '' || (breaks && despite.trim() === '')}>
        {digest === undefined ? 'Weighing …' : second ? 'Ask for confirmation' : 'Publish'}
      </Button>
    </Form>
  )
}
