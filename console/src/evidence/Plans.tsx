import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type EvidencePlan } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Wrong } from '../parts/bits'
import { useChange } from '../parts/change'
import { until } from '../parts/dates'

/** Records that are made again and again, and the way to end that. */
export function Plans({ may }: { may: boolean }) {
  const list = useQuery({ queryKey: ['evidence-plans'], queryFn: () => call('GET /api/v1/evidence-plans') })
  const [ending, setEnding] = useState<EvidencePlan>()
  if (list.error) return <Wrong error={list.error} />
  const all = list.data?.plans ?? []
  if (all.length === 0) return null
  return (
    <section aria-labelledby="h-plans" className="apart">
      <h2 id="h-plans">Made again and again</h2>
      <ul className="plain-list evidence-plans">
        {all.map((p) => (
          <li key={p.id} className="line-act">
            <span>
              {p.says}{' '}
              <span className="quiet">
                {p.every === 1 ? 'every day' : `every ${p.every} days`} · next {until(p.next)} · {p.why}, planned by {p.by}
              </span>{' '}
              {p.last && <Link to={`/evidence/${p.last}`}>the last one</Link>}
              {p.problem && <span className="gets-no"> ▼ It could not be made: {p.problem}</span>}
            </span>
            {may && (
              <Button size="sm" variant="outline-danger" aria-label={`End it: ${p.says}`} onClick={() => setEnding(p)}>
                End it
              </Button>
            )}
          </li>
        ))}
      </ul>
      {ending && <EndPlan p={ending} close={() => setEnding(undefined)} />}
    </section>
  )
}

function EndPlan({ p, close }: { p: EvidencePlan; close: () => void }) {
  const [why, setWhy] = useState('')
  const go = useChange(() => call('DELETE /api/v1/evidence-plans/{id}', { path: { id: p.id }, query: { why: why.trim() } }), close)
  return (
    <AskDialog
      danger
      title="Make it no longer"
      leave="Leave it"
      submit="End it"
      disabled={go.isPending || why.trim() === ''}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>{p.says} The records that were made stay.</p>
      <Form.Group controlId="ep-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" required maxLength={1000} value={why} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
