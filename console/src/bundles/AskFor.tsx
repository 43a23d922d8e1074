import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { call, type Bundle, type Request } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { useChange } from '../parts/change'

/** Asks that somebody outside be given a bundle, or longer. */
export function AskForBundle({ b, close }: { b: Bundle; close: (sent?: Request) => void }) {
  const [address, setAddress] = useState('')
  const [said, setSaid] = useState<string[]>([])
  const [purpose, setPurpose] = useState('')
  const [end, setEnd] = useState('')
  const send = useChange(
    () =>
      call('POST /api/v1/requests', {
        body: {
          purpose: purpose.trim(),
          bundle: {
            bundle: b.id,
            address: address.trim(),
            answers: b.questions.map((_, i) => said[i] ?? ''),
            ...(end ? { until: end } : {}),
          },
        },
      }),
    (r) => close(r),
  )
  return (
    <AskDialog
      title={`Ask for ${b.name}`}
      leave="Cancel"
      submit="Ask for it"
      disabled={send.isPending || address.trim() === '' || purpose.trim() === ''}
      error={send.error}
      close={() => close()}
      onSubmit={() => send.mutate()}
    >
      <p className="quiet">{b.gives.map((g) => `${g.name}: ${g.role}`).join(', ')}</p>
      <Form.Group controlId="ab-address" className="mb-2">
        <Form.Label>Who is to hold it</Form.Label>
        <Form.Control
          size="sm"
          type="email"
          required
          maxLength={254}
          value={address}
          onChange={(e) => setAddress(e.target.value)}
          placeholder="their address"
        />
      </Form.Group>
      {b.questions.map((q, i) => (
        <Form.Group key={q} controlId={`ab-q${i}`} className="mb-2">
          <Form.Label>{q}</Form.Label>
          <Form.Control
            size="sm"
            required
            maxLength={500}
            value={said[i] ?? ''}
            onChange={(e) => setSaid(Object.assign([...said], { [i]: e.target.value }))}
          />
        </Form.Group>
      ))}
      <Form.Group controlId="ab-why" className="mb-2">
        <Form.Label>What it is for</Form.Label>
        <Form.Control size="sm" required maxLength={1000} value={purpose} onChange={(e) => setPurpose(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="ab-until" className="mb-2">
        <Form.Label>Until (else as long as it is given)</Form.Label>
        <Form.Control size="sm" type="date" value={end} onChange={(e) => setEnd(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
