import { useState } from 'react'
import { Form } from 'react-bootstrap'
import type { BundleAsked, Request } from '../api'
import { dayYear, until } from '../parts/dates'
import { StoredChange } from '../places/PlaceDialog'
import { lower } from './words'

/** What whoever approves a bundle sees first: who asks, for what, what it opens, until when; and the narrower ways. */
export function ApproveBundle({ r, asked, close }: { r: Request; asked: BundleAsked; close: () => void }) {
  const [end, setEnd] = useState('')
  const [less, setLess] = useState<Record<string, string>>({})
  const body = {
    ...(end ? { until: end } : {}),
    ...(Object.keys(less).length > 0
      ? { less: Object.entries(less).map(([resource, role]) => ({ resource, ...(role ? { role } : {}) })) }
      : {}),
  }
  const before = asked.steps.filter((s) => s.given)
  const last = asked.steps.filter((s) => !s.given).length <= 1
  return (
    <StoredChange
      title={r.title}
      leave="Not now"
      submit={last ? 'Give it' : 'Approve'}
      done={last ? `${asked.address} was given ${asked.name ?? asked.bundle}` : 'Approved; the next one decides'}
      to="POST /api/v1/requests/{id}/do"
      path={{ id: r.id }}
      body={body}
      reason={r.purpose}
      close={close}
    >
      {() => (
        <>
          <dl className="said">
            <div>
              <dt>Who is to hold it</dt>
              <dd>{asked.address}</dd>
            </div>
            <div>
              <dt>What it is for</dt>
              <dd>{r.purpose}</dd>
            </div>
            {asked.asked.map((q, i) => (
              <div key={q}>
                <dt>{q}</dt>
                <dd>{asked.said[i]}</dd>
              </div>
            ))}
            <div>
              <dt>Until</dt>
              <dd>{asked.until ? until(asked.until) : 'no end'}</dd>
            </div>
          </dl>
          {before.length > 0 && (
            <p className="quiet">
              {before.map((s) => `Approved by ${s.given}${s.for ? ` for ${s.for}` : ''}${s.at ? ` on ${dayYear(s.at)}` : ''}`).join('. ')}.
            </p>
          )}
          <fieldset className="mb-2">
            <legend className="form-label">What it gives</legend>
            <ul className="plain-list">
              {(asked.gives ?? []).map((g) => {
                const was = asked.less.find((l) => l.resource === g.resource)
                const most = was ? (was.role ?? '') : g.role
                return (
                  <li key={g.resource} className="line-act">
                    <span>{g.name}</span>
                    <Form.Select
                      size="sm"
                      aria-label={`Role on ${g.name}`}
                      value={less[g.resource] ?? most}
                      disabled={most === ''}
                      onChange={(e) => {
                        const { [g.resource]: _, ...rest } = less
                        setLess(e.target.value === most ? rest : { ...rest, [g.resource]: e.target.value })
                      }}
                    >
                      {most && <option value={most}>{most}</option>}
                      {lower(most).map((role) => (
                        <option key={role} value={role}>
                          {role} only
                        </option>
                      ))}
                      <option value="">not given</option>
                    </Form.Select>
                  </li>
                )
              })}
            </ul>
          </fieldset>
          <Form.Group controlId="ap-until" className="mb-3">
            <Form.Label>An earlier end (else as asked)</Form.Label>
            <Form.Control size="sm" type="date" value={end} onChange={(e) => setEnd(e.target.value)} />
          </Form.Group>
        </>
      )}
    </StoredChange>
  )
}
