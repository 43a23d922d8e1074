import { Alert, Button, Form } from 'react-bootstrap'
import { useState } from 'react'
import { type Draft, type Given, type Operations, type Session } from '../api'
import { when } from '../parts/bits'
import { Despite } from '../expect/Breaks'

export type Done = 'restore' | 'settle' | 'undo' | 'publish' | 'confirm' | 'withdraw'

/** What is done with a draft. */
export type Change = { [K in Done]: { what: K; body: Operations[`POST /api/v1/drafts/{id}/${K}`]['body'] } }[Done]

export function Waits({ d, me, change, busy }: { d: Draft; me: Session; change: (how: Change) => void; busy: boolean }) {
  const w = d.weighed!
  return (
    <Alert variant="warning" className="waits">
      <span>
        {w.by} asks to publish this{w.publish_at ? ` ${when(w.publish_at)}` : ''}: {w.why}.{' '}
        {w.by === me.name ? 'Somebody else must confirm it.' : ''}
      </span>
      <span className="tools">
        {me.role === 'administrator' && w.by !== me.name && (
          <Button size="sm" disabled={busy} onClick={() => change({ what: 'confirm', body: { digest: w.digest ?? '' } })}>
            Confirm exactly this
          </Button>
        )}
        <Button size="sm" variant="outline-secondary" disabled={busy} onClick={() => change({ what: 'withdraw', body: {} })}>
          Open it again
        </Button>
      </span>
    </Alert>
  )
}

export function PublishForm({
  d,
  zone,
  digest,
  second,
  breaks,
  publish,
  busy,
}: {
  d: Draft
  zone?: string
  digest?: string
  second: boolean
  breaks: boolean
  publish: (body: Given<'POST /api/v1/drafts/{id}/publish'>['body']) => void
  busy: boolean
}) {
  const [why, setWhy] = useState('')
  const [at, setAt] = useState('')
  const [despite, setDespite] = useState('')
  return (
    <Form
      className="publish-form"
      aria-label="Publish"
      onSubmit={(e) => {
        e.preventDefault()
        publish({ why: why.trim(), digest: digest ?? '', ...(at ? { at } : {}), ...(breaks ? { despite: despite.trim() } : {}) })
      }}
    >
      <Form.Group controlId="p-why">
        <Form.Label>Why</Form.Label>
        <Form.Control
          size="sm"
          value={why}
          required
          maxLength={1000}
          onChange={(e) => setWhy(e.target.value)}
          placeholder={d.back ? `to go back to revision ${d.back}` : ''}
        />
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
