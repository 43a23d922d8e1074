import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, type ReactNode } from 'react'
import { Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { Failure, call, type Given, type Operations, type PlaceEdit, type PlacesChanged } from '../api'
import { questionPath } from '../ask/path'
import { WeighedText } from '../drafts/Weighed'
import { AskDialog } from '../parts/AskDialog'
import { useChange } from '../parts/change'
import { askForPlaces, changePlaces, offerBack, previewPlaces, shortID } from './edit'

/** What a change would do, or why it cannot be done. */
function Ahead({ x }: { x: PlacesChanged | undefined }) {
  if (!x) return <p className="quiet">Counting who gains and who loses …</p>
  const refused = x.lines.filter((l) => l.result === 'refused')
  return (
    <div data-testid="ahead" aria-live="polite">
      {refused.map((l, i) => (
        <p key={i} className="gets-no">
          ▼ {l.field && l.field !== 'id' ? `${l.field.replaceAll('_', ' ')} ${l.value ?? ''}: ` : ''}
          {l.cause}
          {l.ask && (
            <>
              {' '}
              <Link to={questionPath(l.ask)}>What would help</Link>
            </>
          )}
        </p>
      ))}
      {x.lines.map(
        (l, i) =>
          l.note && (
            <p key={i} className="quiet">
              {l.note}
            </p>
          ),
      )}
      {refused.length === 0 && x.lines.every((l) => l.result === 'unchanged') && <p className="quiet">Nothing is changed yet.</p>}
      {refused.length === 0 && !x.lines.every((l) => l.result === 'unchanged') && <WeighedText w={x.weighed} />}
    </div>
  )
}

/** Makes or changes a place, a person, a role or the like: weighs what it would do, asks why, does it and offers the way back. */
export function PlaceDialog({
  title,
  submit,
  edits,
  ready = true,
  danger,
  name,
  close,
  done,
  children,
}: {
  title: ReactNode
  submit: string
  edits: PlaceEdit[]
  ready?: boolean
  danger?: boolean
  /** What is changed, as people call it. */
  name?: string
  close: () => void
  done?: (x: PlacesChanged) => void
  children?: ReactNode
}) {
  const [why, setWhy] = useState('')
  const key = JSON.stringify(edits)
  const [asked, setAsked] = useState('')
  useEffect(() => {
    const t = setTimeout(() => setAsked(ready ? key : ''), 250)
    return () => clearTimeout(t)
  }, [key, ready])
  const ahead = useQuery({
    queryKey: ['places-ahead', asked],
    queryFn: () => previewPlaces(JSON.parse(asked) as PlaceEdit[]),
    enabled: asked !== '',
    retry: false,
    gcTime: 0,
  })
  const go = useChange(
    () => changePlaces(edits, why, name),
    (x) => {
      if (x.refused > 0) return
      close()
      done?.(x)
    },
  )
  const theirs =
    asked === key && ahead.error instanceof Failure && ahead.error.problem.status === 403 ? ahead.error.problem.detail : undefined
  const send = useChange(() => askForPlaces(edits, why), close)
  if (theirs !== undefined)
    return (
      <AskDialog
        wide
        scrollable
        title={title}
        leave="Cancel"
        submit="Ask for it"
        disabled={!ready || send.isPending || why.trim() === ''}
        error={send.error}
        close={close}
        onSubmit={() => send.mutate()}
      >
        {children}
        <p className="gets-no" data-testid="theirs" aria-live="polite">
          ▼ This is not yours to change: {theirs?.replace(/^forbidden: /, '')}.
        </p>
        <p className="quiet">
          Whoever may do it gets it as you have filled it in, sees who gains and who loses, and does it with one click. You hear when it is
          done.
        </p>
        <Form.Group controlId="place-why" className="mt-3">
          <Form.Label>Why you need it</Form.Label>
          <Form.Control size="sm" value={why} required maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
        </Form.Group>
      </AskDialog>
    )
  const x = asked === key ? ahead.data : undefined
  const changes = x !== undefined && x.refused === 0 && x.lines.some((l) => l.result !== 'unchanged')
  const must =
    x?.weighed !== undefined &&
    (x.weighed.parties.gained > 0 || x.weighed.granted.gained > 0 || x.weighed.wide.gained > 0 || x.weighed.newcomers.length > 0)
  return (
    <AskDialog
      wide
      scrollable
      title={title}
      leave="Cancel"
      submit={submit}
      disabled={!ready || !changes || go.isPending || (must && why.trim() === '')}
      danger={danger}
      error={go.error ?? ahead.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      {children}
      {ready && !ahead.error && <Ahead x={x} />}
      {go.data && go.data.refused > 0 && <Ahead x={go.data} />}
      <Form.Group controlId="place-why" className="mt-3">
        <Form.Label>{must ? 'Why (needed, as it opens something)' : 'Why'}</Form.Label>
        <Form.Control size="sm" value={why} required={must} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

/** Takes a change back: what that would do, why, and then does it. */
export function UndoDialog({ seq, close }: { seq: number; close: () => void }) {
  return (
    <StoredChange
      title="Undo this change"
      leave="Leave it"
      submit="Undo"
      done="Undone"
      to="POST /api/v1/journal/{seq}/undo"
      path={{ seq }}
      close={close}
    >
      {(x) => (
        <p>
          Back to how it was:{' '}
          {x.lines
            .slice(0, 5)
            .map((l) => shortID(l.kind, l.id))
            .join('; ')}
          {x.lines.length > 5 ? ` and ${x.lines.length - 5} more` : ''}.
        </p>
      )}
    </StoredChange>
  )
}

/** Operations that make a change which the service holds already. */
type Stored = 'POST /api/v1/journal/{seq}/undo' | 'POST /api/v1/requests/{id}/do' | 'POST /api/v1/holdings/end'

/** Makes a change that the service holds already: what it would do, why, and then does it. */
export function StoredChange<K extends Stored>({
  title,
  leave,
  submit,
  done,
  to,
  path,
  body,
  reason = '',
  danger,
  close,
  children,
}: {
  title: ReactNode
  leave: string
  submit: string
  /** What is said of it afterwards. */
  done: string
  to: K
  path?: Operations[K] extends { path: infer P } ? P : undefined
  /** What is sent besides why; it is weighed anew when it is another. */
  body?: Operations[K]['body']
  danger?: boolean
  /** The reason it came with, where it came with one. */
  reason?: string
  close: () => void
  children?: (x: PlacesChanged) => ReactNode
}) {
  const [why, setWhy] = useState(reason)
  const send = (preview: boolean) =>
    call<Stored>(to, {
      path,
      query: { preview },
      body: { ...body, ...(!preview && why.trim() ? { why: why.trim() } : {}) },
    } as Given<Stored>)
  const ahead = useQuery({ queryKey: ['stored-ahead', to, path, body], queryFn: () => send(true), retry: false, gcTime: 0 })
  const go = useChange(
    () => send(false),
    (x) => {
      if (x.refused > 0) return
      offerBack(x.change ? { text: done, change: x.change } : null)
      close()
    },
  )
  const x = ahead.data
  const must = x?.weighed !== undefined && (x.weighed.parties.gained > 0 || x.weighed.newcomers.length > 0 || danger === true)
  return (
    <AskDialog
      danger={danger}
      title={title}
      leave={leave}
      submit={submit}
      disabled={!x || x.refused > 0 || go.isPending || (must && why.trim() === '')}
      error={go.error ?? ahead.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      {x && children?.(x)}
      {!ahead.error && <Ahead x={x} />}
      <Form.Group controlId="undo-why" className="mt-3">
        <Form.Label>{must ? (danger ? 'Why (it stands in the journal)' : 'Why (needed, as it opens something)') : 'Why'}</Form.Label>
        <Form.Control size="sm" value={why} required={must} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
