import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { call, type Exception } from '../api'

export function Ending({ x, what, close, done }: { x: Exception; what: 'end' | 'prolong'; close: () => void; done: () => void }) {
  const [until, setUntil] = useState('+30d')
  const [why, setWhy] = useState('')
  const save = useMutation({
    mutationFn: () => {
      const to = { path: { id: x.id }, headers: { 'If-Match': x.etag } }
      return what === 'end'
        ? call('POST /api/v1/exceptions/{id}/end', { ...to, body: { why } })
        : call('POST /api/v1/exceptions/{id}/prolong', { ...to, body: { until, why } })
    },
    onSuccess: () => {
      done()
      close()
    },
  })
  return (
    <AskDialog
      policy
      title={what === 'end' ? `End ${x.id} now?` : `Prolong ${x.id}`}
      leave="Cancel"
      submit={what === 'end' ? 'End it' : 'Prolong'}
      disabled={save.isPending}
      danger={what === 'end'}
      error={save.error}
      close={close}
      onSubmit={() => save.mutate()}
    >
      {what === 'end' && (
        <p>
          {x.concerns} {x.concerns === 1 ? 'person loses' : 'people lose'}{' '}
          {Object.entries(x.rules)
            .map(([r, v]) => `${r} ${v.value}`)
            .join(', ')}
          {x.state === 'ahead' ? '. It has not begun, so it is taken away.' : ' at once.'}
        </p>
      )}
      {what === 'prolong' && (
        <Form.Group controlId="x-until" className="mb-2">
          <Form.Label>Until</Form.Label>
          <Form.Control size="sm" value={until} onChange={(e) => setUntil(e.target.value)} aria-describedby="x-until-hint" />
          <p className="quiet" id="x-until-hint">
            A date, days from today as +30d, or none.
          </p>
        </Form.Group>
      )}
      <Form.Group controlId="x-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

export function List({ close, done }: { close: () => void; done: () => void }) {
  const [text, setText] = useState('id,people,parties,rules,until,reason\n')
  const [good, setGood] = useState(false)
  const run = useMutation({
    mutationFn: (preview: boolean) =>
      call('POST /api/v1/exceptions/import', { query: { preview: preview, only_good: good }, body: text, type: 'text/csv' }),
    onSuccess: (r) => {
      if (r.written) {
        done()
        close()
      }
    },
  })
  const lines = run.data?.lines ?? []
  return (
    <AskDialog
      policy
      wide
      scrollable
      title="Exceptions from a list"
      leave="Close"
      submit="Take them"
      disabled={run.isPending}
      error={run.error}
      close={close}
      onSubmit={() => run.mutate(false)}
      more={
        <Button variant="outline-primary" onClick={() => run.mutate(true)} disabled={run.isPending}>
          Preview
        </Button>
      }
    >
      <Form.Group controlId="l-text">
        <Form.Label>CSV with the columns id, people, groups, parties, rules, from, until, reason</Form.Label>
        <Form.Control as="textarea" rows={8} className="csv" value={text} onChange={(e) => setText(e.target.value)} />
      </Form.Group>
      <Form.Check
        id="l-good"
        label="Take the good lines even where others are refused"
        checked={good}
        onChange={(e) => setGood(e.target.checked)}
      />
      {lines.length > 0 && (
        <table className="table listing" data-testid="import">
          <thead>
            <tr>
              <th scope="col">Line</th>
              <th scope="col">Id</th>
              <th scope="col">Result</th>
            </tr>
          </thead>
          <tbody>
            {lines.map((l) => (
              <tr key={l.line}>
                <td>{l.line}</td>
                <td>{l.id}</td>
                <td className={l.result === 'refused' ? 'gets-no' : ''}>
                  {l.result} <span className="sub">{l.cause}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {run.data && !run.data.written && (
        <p role="status">
          {run.data.preview
            ? 'A preview; nothing was written.'
            : 'Nothing was written: mend what is refused, or take the good lines alone.'}
        </p>
      )}
    </AskDialog>
  )
}
