import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Modal } from '../parts/Dialog'
import { useSearchParams } from 'react-router'
import { call, query, send, type Choices, type Exception, type Imported, type Rule } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { against } from '../places/ValueTable'
import { ExceptionTimes } from './ExceptionTimes'

export function ExceptionsPage({ role }: { role: string }) {
  const client = useQueryClient()
  const [params, setParams] = useSearchParams()
  const [state, setState] = useState('')
  const [asking, setAsking] = useState<{ x: Exception; what: 'end' | 'prolong' } | null>(null)
  const [listing, setListing] = useState(false)
  const list = useQuery({ queryKey: ['exceptions', state], queryFn: () => call<{ exceptions: Exception[] }>('GET', `/api/v1/exceptions${query({ state })}`), placeholderData: (old) => old })
  const edit = role === 'administrator'
  const done = () => client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
  const xs = list.data?.exceptions ?? []
  return (
    <Page
      title="Exceptions"
      lead="Values for named people or groups, usually with an end date. An exception may be looser or tighter than the default, but never looser than the limit."
      tools={
        <>
          <Form.Select size="sm" aria-label="Show" value={state} onChange={(e) => setState(e.target.value)}>
            <option value="">All</option>
            <option value="in_force">In force</option>
            <option value="ahead">Ahead</option>
            <option value="over">Over</option>
          </Form.Select>
          {edit && (
            <Button size="sm" variant="outline-primary" onClick={() => setListing(true)}>
              From a list
            </Button>
          )}
          {edit && (
            <Button size="sm" onClick={() => setParams({ new: '1' })}>
              Make one
            </Button>
          )}
        </>
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading exceptions" />}
      {list.data && xs.length === 0 && <Empty>{state ? 'No exception is like that.' : 'There is no exception. Make one where a single person needs what nobody else does.'}</Empty>}
      {xs.length > 0 && (
        <ExceptionTimes
          list={xs}
          tools={
            edit
              ? (x) =>
                  x.state !== 'over' && (
                    <p className="time-tools">
                      {x.until && (
                        <Button size="sm" variant="link" onClick={() => setAsking({ x, what: 'prolong' })} aria-label={`Prolong ${x.id}`}>
                          Prolong
                        </Button>
                      )}
                      <Button size="sm" variant="link" onClick={() => setAsking({ x, what: 'end' })} aria-label={`End now: ${x.id}`}>
                        End now
                      </Button>
                    </p>
                  )
              : undefined
          }
        />
      )}
      {params.get('new') && edit && <Make person={params.get('person') ?? ''} close={() => setParams({}, { replace: true })} done={() => void done()} />}
      {asking && <Ending {...asking} close={() => setAsking(null)} done={() => void done()} />}
      {listing && <List close={() => setListing(false)} done={() => void done()} />}
    </Page>
  )
}

function Ending({ x, what, close, done }: { x: Exception; what: 'end' | 'prolong'; close: () => void; done: () => void }) {
  const [until, setUntil] = useState('+30d')
  const [why, setWhy] = useState('')
  const save = useMutation({
    mutationFn: () => call('POST', `/api/v1/exceptions/${x.id}/${what}`, what === 'end' ? { why } : { until, why }, { 'If-Match': x.etag }),
    onSuccess: () => {
      done()
      close()
    },
  })
  return (
    <Modal show policy onHide={close} aria-labelledby="m-end">
      <Form
        onSubmit={(e) => {
          e.preventDefault()
          save.mutate()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="m-end">
            {what === 'end' ? `End ${x.id} now?` : `Prolong ${x.id}`}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {save.error && <Wrong error={save.error} />}
          {what === 'end' && (
            <p>
              {x.concerns} {x.concerns === 1 ? 'person loses' : 'people lose'} {Object.entries(x.rules).map(([r, v]) => `${r} ${v.value}`).join(', ')}
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
        </Modal.Body>
        <Modal.Footer>
          <Button size="sm" variant="link" onClick={close}>
            Cancel
          </Button>
          <Button size="sm" type="submit" variant={what === 'end' ? 'danger' : 'primary'} disabled={save.isPending}>
            {what === 'end' ? 'End it' : 'Prolong'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

function Make({ person, close, done }: { person: string; close: () => void; done: () => void }) {
  const [id, setId] = useState('')
  const [people, setPeople] = useState(person)
  const [groups, setGroups] = useState('')
  const [parties, setParties] = useState('')
  const [rule, setRule] = useState('')
  const [value, setValue] = useState('')
  const [until, setUntil] = useState('+14d')
  const [reason, setReason] = useState('')
  const rules = useQuery({ queryKey: ['rules', ''], queryFn: () => call<{ rules: Rule[] }>('GET', '/api/v1/rules') })
  const able = (rules.data?.rules ?? []).filter((r) => r.layers.includes('people'))
  const first = words(people)[0] ?? ''
  const choices = useQuery({
    queryKey: ['choices', rule, first],
    queryFn: () => call<Choices>('GET', `/api/v1/choices${query({ rule, person: first })}`),
    enabled: rule !== '' && first !== '',
    retry: false,
  })
  const save = useMutation({
    mutationFn: () =>
      call<Exception>('POST', '/api/v1/exceptions', {
        id: id.trim(),
        people: words(people),
        groups: words(groups),
        ...(words(parties).length ? { parties: words(parties) } : {}),
        rules: { [rule]: { value } },
        ...(until.trim() ? { until: until.trim() } : {}),
        reason,
        why: reason,
      }),
    onSuccess: () => {
      done()
      close()
    },
  })
  const chosen = able.find((r) => r.name === rule)
  const options = choices.data?.choices ?? chosen?.values.map((v) => ({ value: v.value, sentence: v.sentence, can: true }))
  const submit = (e: FormEvent) => {
    e.preventDefault()
    save.mutate()
  }
  const field = (cid: string, label: string, v: string, set: (v: string) => void, hint?: string, required = false) => (
    <Form.Group controlId={cid} className="mb-2">
      <Form.Label>{label}</Form.Label>
      <Form.Control size="sm" value={v} required={required} onChange={(e) => set(e.target.value)} aria-describedby={hint ? `${cid}-h` : undefined} />
      {hint && (
        <p className="quiet" id={`${cid}-h`}>
          {hint}
        </p>
      )}
    </Form.Group>
  )
  return (
    <Modal show policy onHide={close} aria-labelledby="m-make" scrollable>
      <Form onSubmit={submit}>
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="m-make">
            Make an exception
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {save.error && <Wrong error={save.error} />}
          {field('e-id', 'Id', id, setId, 'Small letters, digits, dots and dashes.', true)}
          {field('e-people', 'People of ours', people, setPeople, 'Their ids, separated by blanks.')}
          {field('e-groups', 'Groups of ours', groups, setGroups)}
          {field('e-parties', 'Only towards', parties, setParties, 'partner:ID, domain:NAME, group:ID or addresses; empty is everybody.')}
          <Form.Group controlId="e-rule" className="mb-2">
            <Form.Label>Rule</Form.Label>
            <Form.Select
              size="sm"
              required
              value={rule}
              onChange={(e) => {
                setRule(e.target.value)
                setValue('')
              }}
            >
              <option value="">Choose a rule</option>
              {able.map((r) => (
                <option key={r.name} value={r.name}>
                  {r.title} ({r.name})
                </option>
              ))}
            </Form.Select>
          </Form.Group>
          {chosen && (chosen.shape === 'days' || chosen.shape === 'methods') && field('e-value', 'Value', value, setValue, undefined, true)}
          {chosen && chosen.shape !== 'days' && chosen.shape !== 'methods' && (
            <fieldset className="choose">
              <legend>Value</legend>
              {options?.map((c) => (
                <Form.Check
                  key={c.value}
                  type="radio"
                  name="e-value"
                  id={`e-v-${c.value}`}
                  required
                  checked={value === c.value}
                  disabled={!c.can && 'by' in c && c.by === 'limit'}
                  onChange={() => setValue(c.value)}
                  label={
                    <>
                      <b>{c.value}</b> {c.sentence} {!c.can && 'by' in c && <span className="held">{against(c)}</span>}
                    </>
                  }
                />
              ))}
            </fieldset>
          )}
          {field('e-until', 'Until', until, setUntil, 'A date, days from today as +14d, or empty for no end.')}
          {field('e-reason', 'Reason', reason, setReason, undefined, true)}
        </Modal.Body>
        <Modal.Footer>
          <Button size="sm" variant="link" onClick={close}>
            Cancel
          </Button>
          <Button size="sm" type="submit" disabled={save.isPending}>
            Make it
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

function List({ close, done }: { close: () => void; done: () => void }) {
  const [text, setText] = useState('id,people,parties,rules,until,reason\n')
  const [good, setGood] = useState(false)
  const run = useMutation({
    mutationFn: (preview: boolean) => send<Imported>(`/api/v1/exceptions/import${query({ preview: preview ? 'true' : undefined, only_good: good ? 'true' : undefined })}`, text, 'text/csv'),
    onSuccess: (r) => {
      if (r.written) {
        done()
        close()
      }
    },
  })
  const lines = run.data?.lines ?? []
  return (
    <Modal show policy onHide={close} size="lg" aria-labelledby="m-list" scrollable>
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="m-list">
          Exceptions from a list
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <Form.Group controlId="l-text">
          <Form.Label>CSV with the columns id, people, groups, parties, rules, from, until, reason</Form.Label>
          <Form.Control as="textarea" rows={8} className="csv" value={text} onChange={(e) => setText(e.target.value)} />
        </Form.Group>
        <Form.Check id="l-good" label="Take the good lines even where others are refused" checked={good} onChange={(e) => setGood(e.target.checked)} />
        {run.error && <Wrong error={run.error} />}
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
          <p role="status">{run.data.preview ? 'A preview; nothing was written.' : 'Nothing was written: mend what is refused, or take the good lines alone.'}</p>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button size="sm" variant="link" onClick={close}>
          Close
        </Button>
        <Button size="sm" variant="outline-primary" onClick={() => run.mutate(true)} disabled={run.isPending}>
          Preview
        </Button>
        <Button size="sm" onClick={() => run.mutate(false)} disabled={run.isPending}>
          Take them
        </Button>
      </Modal.Footer>
    </Modal>
  )
}
