import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { Link } from 'react-router'
import { call } from '../api'
import { Combo } from '../parts/Combo'
import { Waiting, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

/** A person of ours leaves: how much they answer for, and who is asked to take over. */
export function Leaves({ person, name, close }: { person: string; name: string; close: () => void }) {
  const refresh = useRefresh()
  const [at, setAt] = useState('')
  const [successor, setSuccessor] = useState('')
  const [reason, setReason] = useState('')
  const body = { reason, ...(at ? { at } : {}), ...(successor ? { successor } : {}) }
  const ahead = useQuery({
    queryKey: ['leaving', person, at, successor],
    queryFn: () =>
      call('POST /api/v1/people/{id}/leaving', { path: { id: person }, query: { preview: true }, body: { ...body, reason: 'weighed' } }),
    retry: false,
    placeholderData: (old) => old,
  })
  const go = useMutation({
    mutationFn: () => call('POST /api/v1/people/{id}/leaving', { path: { id: person }, body }),
    onSuccess: () => {
      void refresh()
      close()
    },
  })
  return (
    <AskDialog
      title={<>{name} leaves us</>}
      leave="Cancel"
      submit={successor ? 'Note it, and ask' : 'Note it'}
      disabled={go.isPending || !!ahead.error || !ahead.data}
      error={null}
      close={close}
      onSubmit={() => go.mutate()}
    >
      {ahead.isLoading && <Waiting what="Counting" />}
      {ahead.data && (
        <p role="status">
          <Link to={`/guests?sponsor=${encodeURIComponent(person)}`}>
            {ahead.data.guests} {ahead.data.guests === 1 ? 'guest' : 'guests'}
          </Link>{' '}
          and {ahead.data.grants} {ahead.data.grants === 1 ? 'grant' : 'grants'} are answered for by {name}. Where a sponsor is required and
          nobody takes over, a record is suspended 14 days after.
        </p>
      )}
      {ahead.error && <Wrong error={ahead.error} />}
      <Form.Group controlId="leaves-at" className="mb-2">
        <Form.Label>The last day</Form.Label>
        <Form.Control size="sm" type="date" value={at} onChange={(e) => setAt(e.target.value)} />
        <Form.Text>Empty: now.</Form.Text>
      </Form.Group>
      <div className="plain-combo mb-2">
        <Combo
          label="Who is asked to take over"
          kind="person"
          placeholder="nobody yet"
          value={successor}
          onChange={(v) => setSuccessor(v.replace(/^person:/, ''))}
        />
      </div>
      <Form.Group controlId="leaves-reason">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" required value={reason} onChange={(e) => setReason(e.target.value)} />
      </Form.Group>
      {go.error && <Wrong error={go.error} />}
    </AskDialog>
  )
}
