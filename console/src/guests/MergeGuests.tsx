import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { Capped } from '../parts/Capped'
import { AskDialog } from '../parts/AskDialog'
import { useNavigate } from 'react-router'
import { call } from '../api'
import { Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

export function Merge({ into, other, close }: { into: string; other: string; close: () => void }) {
  const refresh = useRefresh()
  const navigate = useNavigate()
  const [from, setFrom] = useState(other)
  const [sought, setSought] = useState(other)
  const [reason, setReason] = useState('')
  const ahead = useQuery({
    queryKey: ['merge', sought, into],
    queryFn: () => call('POST /api/v1/guests/merge', { query: { preview: true }, body: { from: sought, into } }),
    enabled: sought !== '',
    retry: false,
  })
  const go = useMutation({
    mutationFn: () => call('POST /api/v1/guests/merge', { body: { from: sought, into, reason } }),
    onSuccess: () => {
      void refresh()
      navigate(`/guests/${encodeURIComponent(into)}`)
      close()
    },
  })
  return (
    <AskDialog
      title="One person, one record"
      leave="Leave it"
      submit={ahead.data && sought === from ? 'Make it one' : 'Preview'}
      disabled={go.isPending || ahead.isFetching}
      error={null}
      close={close}
      onSubmit={() => {
        if (ahead.data && sought === from) go.mutate()
        else setSought(from.trim())
      }}
    >
      <p className="quiet">What the other address was given goes to {into}, and the other record is removed.</p>
      <Form.Group controlId="merge-from" className="mb-2">
        <Form.Label>Their other address</Form.Label>
        <Form.Control size="sm" type="email" required value={from} onChange={(e) => setFrom(e.target.value)} />
      </Form.Group>
      {ahead.error && <Wrong error={ahead.error} />}
      {go.error && <Wrong error={go.error} />}
      {ahead.data && sought === from && (
        <>
          <p>
            Grants that would move: {ahead.data.grants}; groups: {ahead.data.groups}. {into} has {ahead.data.was} granted actions and would
            have {ahead.data.will}.
          </p>
          <Capped list={ahead.data.gained} first={8}>
            {(shown) => (
              <ul className="plain-list">
                {shown.map((x, i) => (
                  <li key={i}>
                    + {x.action} {x.name || x.resource}
                  </li>
                ))}
              </ul>
            )}
          </Capped>
          <Form.Group controlId="merge-why">
            <Form.Label>How do you know</Form.Label>
            <Form.Control size="sm" required value={reason} onChange={(e) => setReason(e.target.value)} />
          </Form.Group>
        </>
      )}
    </AskDialog>
  )
}
