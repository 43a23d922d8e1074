import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Alert, Button, Form, ProgressBar } from 'react-bootstrap'
import { Link, useNavigate, useParams } from 'react-router'
import { call, linked, weigh, type Draft, type Session, failed } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { EditList } from './EditList'
import { ImpactPicture } from './Impact'
import { ImpactTables } from './ImpactTables'
import { inDraft, workIn } from './quick'
import { useRefresh } from '../parts/change'
import { PublishForm, Waits, type Change, type Done } from './Publish'

type Changing = `POST /api/v1/drafts/{id}/${Done}`

/** A draft: its difference, its impact, and publishing it. */
export function DraftPage({ session }: { session: Session }) {
  const { id = '' } = useParams()
  const client = useQueryClient()
  const refresh = useRefresh()
  const navigate = useNavigate()
  const draft = useQuery({ queryKey: ['draft', id], queryFn: () => call('GET /api/v1/drafts/{id}', { path: { id } }) })
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
      return weigh({ path: { id }, query: { at: day } }, setPart, signal)
    },
    enabled: weighable,
    staleTime: 30_000,
  })
  const put = (x: Draft) => {
    client.setQueryData(['draft', id], x)
    void client.invalidateQueries({ queryKey: ['drafts'] })
  }
  const change = useMutation({
    mutationFn: ({ what, body }: Change) => call<Changing>(`POST /api/v1/drafts/{id}/${what}`, { path: { id }, body }),
    onSuccess: put,
  })
  const drop = useMutation({
    mutationFn: () => call('POST /api/v1/drafts/{id}/drop', { path: { id }, body: {} }),
    onSuccess: () => {
      if (inDraft()?.id === d?.id) workIn(null)
      void refresh()
      navigate('/drafts', { state: { dropped: { id, name: d?.name } } })
    },
  })
  const admin = session.role === 'administrator'
  const may = admin || session.role === 'keeper'
  if (failed(draft))
    return (
      <Page title="Draft">
        <Wrong error={draft.error} retry={() => void draft.refetch()} />
      </Page>
    )
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
        <AskDialog
          title={`Give up ${d.name}?`}
          leave="Keep it"
          submit="Give it up"
          danger
          disabled={drop.isPending}
          error={drop.error}
          close={() => setGiving(false)}
          onSubmit={() => drop.mutate()}
        >
          <p>
            {d.edits.length === 0
              ? 'It changes nothing so far.'
              : `Its ${d.edits.length === 1 ? 'edit goes' : `${d.edits.length} edits go`} with it.`}{' '}
            Nothing that is in force changes. It can be taken back, here and under Drafts.
          </p>
        </AskDialog>
      )}
      {d.state === 'open' && d.note && <Alert variant="warning">It is open again: {d.note}.</Alert>}
      {d.state === 'dropped' && may && (
        <Alert variant="info">
          It was given up.{' '}
          <Button
            size="sm"
            variant="outline-secondary"
            disabled={change.isPending}
            onClick={() => change.mutate({ what: 'restore', body: {} })}
          >
            Take it back
          </Button>
        </Alert>
      )}
      {d.moved && (
        <p className="quiet" role="status">
          Brought up to date with revision {d.revision}, which was published meanwhile.
        </p>
      )}
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
              <Button
                size="sm"
                disabled={change.isPending}
                onClick={() => change.mutate({ what: 'settle', body: { kind: c.kind, id: c.id, keep: 'draft' } })}
              >
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
              <Button
                size="sm"
                variant="outline-primary"
                disabled={change.isPending}
                onClick={() => change.mutate({ what: 'settle', body: { kind: c.kind, id: c.id, keep: 'live' } })}
              >
                Take what is in force
              </Button>
            </div>
          </div>
        </section>
      ))}
      {d.state === 'waiting' && d.weighed && <Waits d={d} me={session} change={change.mutate} busy={change.isPending} />}
      {d.state === 'set' && d.weighed && (
        <Alert variant="info">
          It will be published {when(d.weighed.publish_at ?? '')}: {d.weighed.why}{' '}
          {may && (
            <Button size="sm" variant="outline-secondary" onClick={() => change.mutate({ what: 'withdraw', body: {} })}>
              Open it again
            </Button>
          )}
        </Alert>
      )}
      {d.edits.length === 0 && d.releases.length === 0 && d.conflicts.length === 0 && (
        <Empty>
          It changes nothing yet. Work in it, then change rules, partners, domains or exceptions as always: what you change goes into the
          draft.
        </Empty>
      )}
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
      {weighable && d.state === 'open' && admin && (
        <PublishForm
          d={d}
          zone={session.zone}
          digest={impact.data?.digest}
          second={impact.data?.second ?? false}
          breaks={(impact.data?.breaks?.length ?? 0) > 0}
          publish={(body) => change.mutate({ what: 'publish', body })}
          busy={change.isPending}
        />
      )}
      {d.edits.length > 0 && (
        <section aria-labelledby="h-edits">
          <h2 id="h-edits">{d.edits.length === 1 ? '1 edit' : `${d.edits.length} edits`}</h2>
          <EditList
            edits={d.edits}
            undo={may && !over ? (e) => change.mutate({ what: 'undo', body: { kind: e.kind, id: e.id } }) : undefined}
            busy={change.isPending}
          />
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
      {impact.data && (
        <ImpactTables x={impact.data} download={linked('GET /api/v1/drafts/{id}/impact/lines', { path: { id }, query: { at: day } })} />
      )}
    </Page>
  )
}
