import { useMutation } from '@tanstack/react-query'
import { useEffect, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Rule } from '../api'
import { Capped } from '../parts/Capped'
import { useDraft } from '../parts/Dialog'
import { RuleAudienceLine } from '../reach/NumbersPage'
import { Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

export function RuleDetail({ r, edit }: { r: Rule; edit: boolean }) {
  const refresh = useRefresh()
  const [limit, setLimit] = useState(r.limit)
  const [def, setDef] = useState(r.default)
  const [why, setWhy] = useState('')
  const draft = useDraft()
  useEffect(() => {
    setLimit(r.limit)
    setDef(r.default)
  }, [r.limit, r.default])
  const save = useMutation({
    mutationFn: () =>
      call('PATCH /api/v1/rules/{rule}', {
        path: { rule: r.name },
        body: {
          ...(limit !== r.limit ? { limit } : {}),
          ...(def !== r.default || r.held_default ? { default: def } : {}),
          ...(why ? { why } : {}),
        },
        headers: { 'If-Match': r.etag },
      }),
    onSuccess: () => {
      setWhy('')
      void refresh()
    },
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    save.mutate()
  }
  const changed = limit !== r.limit || def !== r.default
  const field = (label: string, value: string, set: (v: string) => void) => (
    <Form.Group controlId={`${r.name}-${label}`}>
      <Form.Label>{label}</Form.Label>
      {r.shape === 'switch' || r.shape === 'level' || r.shape === 'choice' ? (
        <Form.Select size="sm" value={value} onChange={(e) => set(e.target.value)}>
          {r.values.map((v) => (
            <option key={v.value}>{v.value}</option>
          ))}
        </Form.Select>
      ) : (
        <Form.Control size="sm" value={value} onChange={(e) => set(e.target.value)} aria-describedby={`${r.name}-hint`} />
      )}
    </Form.Group>
  )
  return (
    <div className="rule-detail">
      <div>
        <dl className="sentences">
          {r.values.map((v) => (
            <div key={v.value} className={v.value === r.default ? 'is-default' : ''}>
              <dt>{v.value}</dt>
              <dd>{v.sentence}</dd>
            </div>
          ))}
        </dl>
        <p className="quiet">
          Advised: <b>{r.advised}</b>. {r.advised_reason} {r.omits}
        </p>
        <p className="quiet">{r.layers.length ? `Also set at ${r.layers.join(', ')}.` : 'Set by the organisation alone.'}</p>
        <RuleAudienceLine rule={r.name} value={r.limit} />
        {r.held_default && <p className="held">The default {r.held_default} is held back. Saving a default releases it.</p>}
        {r.below.length > 0 && (
          <Capped list={r.below} first={50}>
            {(below) => (
              <table className="table below">
                <caption>Set below</caption>
                <thead>
                  <tr>
                    <th scope="col">Layer</th>
                    <th scope="col">Where</th>
                    <th scope="col">Value</th>
                  </tr>
                </thead>
                <tbody>
                  {below.map((b) => (
                    <tr key={b.layer + b.where}>
                      <td>{b.layer}</td>
                      <td>
                        {b.layer === 'partner' ? (
                          <Link to={`/partners/${b.where}`}>{b.name || b.where}</Link>
                        ) : b.layer === 'people' ? (
                          <Link to={`/exceptions#${b.where}`}>exception {b.where}</Link>
                        ) : b.layer === 'space' ? (
                          <Link to={`/spaces/${b.where}`}>{b.name || b.where}</Link>
                        ) : (
                          b.name || b.where
                        )}
                        {b.layer === 'people' && b.name ? `: ${b.name}` : ''}
                      </td>
                      <td>
                        {b.value}
                        {b.held ? ' (held back)' : ''}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </Capped>
        )}
      </div>
      {edit && (
        <Form className="rule-form" onSubmit={submit} aria-label={`Change ${r.name}`}>
          {save.error && <Wrong error={save.error} />}
          {field('Limit', limit, setLimit)}
          {field('Default', def, setDef)}
          {(r.shape === 'days' || r.shape === 'methods') && (
            <p className="quiet" id={`${r.name}-hint`}>
              {r.shape === 'days'
                ? 'A number of days, or none.'
                : `Some of ${r.values.map((v) => v.value).join(', ')}, with commas; or all.`}
            </p>
          )}
          <Form.Group controlId={`${r.name}-why`}>
            <Form.Label>Why</Form.Label>
            <Form.Control size="sm" value={why} onChange={(e) => setWhy(e.target.value)} />
          </Form.Group>
          <Button type="submit" size="sm" disabled={(!changed && !r.held_default) || save.isPending}>
            {draft ? 'Save in the draft' : 'Weigh and save'}
          </Button>
          {save.isSuccess && !changed && (
            <span role="status" className="saved">
              {draft ? `Saved in the draft “${draft.name}”; it counts once that is published.` : 'Published. It counts now.'}
            </span>
          )}
        </Form>
      )}
    </div>
  )
}
