import { AskDialog } from '../parts/AskDialog'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { call, type Values } from '../api'
import { WeighedText } from '../drafts/Weighed'

export interface Change {
  rule: string
  value: string
}

export function change(values: Values, c: Change, why?: string, preview?: boolean): Promise<Values> {
  const match = { 'If-Match': values.etag }
  const path = { where: values.where, rule: c.rule }
  if (!c.value) return call('DELETE /api/v1/values/{where}/{rule}', { path, query: { preview, why }, headers: match })
  return call('PUT /api/v1/values/{where}/{rule}', {
    path,
    query: { preview },
    body: { value: c.value, ...(why ? { why } : {}) },
    headers: match,
  })
}

/** Who gains and who loses by a value at a space, item or meeting, before it is set. */
export function ValueDialog({ values, asked, close, done }: { values: Values; asked: Change; close: () => void; done: () => void }) {
  const [why, setWhy] = useState('')
  const weighed = useQuery({
    queryKey: ['weighed', values.where, values.etag, asked.rule, asked.value],
    queryFn: () => change(values, asked, undefined, true),
    gcTime: 0,
  })
  const set = useMutation({ mutationFn: () => change(values, asked, why.trim()), onSuccess: done })
  const w = weighed.data?.weighed
  return (
    <AskDialog
      title="What this changes"
      className="value-dialog"
      leave="Change nothing"
      submit="Set it"
      disabled={!w || set.isPending || (w.loosens && why.trim() === '')}
      error={weighed.error ?? set.error}
      close={close}
      onSubmit={() => set.mutate()}
    >
      {w && (
        <p>
          <code>{asked.rule}</code> at {values.name || values.where}: <b>{w.was}</b>, then <b>{w.becomes}</b>.
        </p>
      )}
      {!weighed.error && <WeighedText w={w} />}
      {w && (
        <Form.Group controlId="value-why">
          <Form.Label>{w.loosens ? 'Why' : 'Why, if there is more to say'}</Form.Label>
          <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} required={w.loosens} maxLength={1000} autoFocus />
        </Form.Group>
      )}
    </AskDialog>
  )
}

/** Sends a value to whoever may set it, with what it is for. */
export function WantedDialog({
  values,
  wanted,
  close,
  done,
}: {
  values: Values
  wanted: Change
  close: () => void
  done: (title: string) => void
}) {
  const [purpose, setPurpose] = useState('')
  const send = useMutation({
    mutationFn: () =>
      call('POST /api/v1/requests', {
        body: {
          value: { where: values.where, rule: wanted.rule, ...(wanted.value ? { value: wanted.value } : {}) },
          purpose: purpose.trim(),
        },
      }),
    onSuccess: (r) => done(r.title),
  })
  return (
    <AskDialog
      title="Ask for it"
      leave="Leave it"
      submit="Send it"
      disabled={purpose.trim() === '' || send.isPending}
      error={send.error}
      close={close}
      onSubmit={() => send.mutate()}
    >
      <p>
        {values.rules.find((r) => r.rule === wanted.rule)?.title ?? wanted.rule} at {values.name || values.where}:{' '}
        <b>{wanted.value || 'not set'}</b>. It goes to whoever may set it there.
      </p>
      <Form.Group controlId="wanted-for">
        <Form.Label>What it is for</Form.Label>
        <Form.Control value={purpose} onChange={(e) => setPurpose(e.target.value)} maxLength={1000} autoFocus />
      </Form.Group>
    </AskDialog>
  )
}
