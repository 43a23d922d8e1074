import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Alert, Button, Form } from 'react-bootstrap'
import { call, type Expectation } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Chips } from '../parts/Chips'
import { Combo } from '../parts/Combo'
import { Wrong } from '../parts/bits'
import { Counterexamples, Stands } from './words'

const kinds: [string, string][] = [
  ['kind:guest', 'Every guest with a record'],
  ['kind:provisioned', 'Every guest whom a feed keeps'],
  ['kind:federated', 'Every account elsewhere'],
  ['kind:personal', 'Every private address'],
  ['kind:bearer', 'Whoever holds a link'],
]

const sorts: [Expectation['expect']['sort'], string][] = [
  ['never', 'Nobody may'],
  ['always', 'Everybody may'],
  ['only', 'Only these may'],
  ['at_most', 'At most so many may'],
  ['only_until', 'Nobody may after a day'],
  ['condition', 'Only under conditions'],
]

/** Says what is expected: of whom, to do what, with what. It can be tried before it is kept. */
export function MakeExpectation({ x, close, done }: { x?: Expectation; close: () => void; done: (id: string) => void }) {
  const fixed = !x || x.party === 'everybody' || x.party.startsWith('kind:')
  const [set, setSet] = useState(x && fixed ? x.party : x ? 'some' : 'everybody')
  const [party, setParty] = useState(x && !fixed ? x.party : '')
  const [action, setAction] = useState(x?.action ?? '*')
  const [resource, setResource] = useState(x && x.resource !== '*' ? x.resource : '')
  const [sort, setSort] = useState<Expectation['expect']['sort']>(x?.expect.sort ?? 'never')
  const [only, setOnly] = useState<string[]>(x?.expect.only ?? [])
  const [most, setMost] = useState(String(x?.expect.at_most ?? 25))
  const [day, setDay] = useState(x?.expect.only_until ?? '')
  const [conditions, setConditions] = useState<string[]>(x?.expect.condition ?? ['sign_in'])
  const [owner, setOwner] = useState(x?.owner ?? '')
  const [reason, setReason] = useState(x?.reason ?? '')
  const [tell, setTell] = useState(x?.tell ?? false)
  const [could, setCould] = useState(x?.could ?? false)
  const acts = sort !== 'always' && sort !== 'condition' // acts only add, and conditions are not looked at
  const actions = useQuery({ queryKey: ['actions'], queryFn: () => call('GET /api/v1/actions') })
  const names = actions.data?.actions.map((a) => a.name) ?? []
  const services = [...new Set(names.map((n) => n.split('.')[0]))]
  const body = () => ({
    party: set === 'some' ? party.trim() : set,
    action,
    resource: resource.trim() || '*',
    expect: {
      sort,
      ...(sort === 'only' ? { only } : {}),
      ...(sort === 'at_most' ? { at_most: Number(most) } : {}),
      ...(sort === 'only_until' ? { only_until: day } : {}),
      ...(sort === 'condition' ? { condition: conditions } : {}),
    },
    ...(x || owner ? { owner: owner.trim() } : {}),
    ...(x || reason ? { reason } : {}),
    ...(x || tell ? { tell } : {}),
    ...(x || could ? { could: could && acts } : {}),
  })
  const look = useMutation({ mutationFn: () => call('POST /api/v1/expectations', { query: { preview: true }, body: body() }) })
  const save = useMutation({
    mutationFn: () =>
      x
        ? call('PATCH /api/v1/expectations/{id}', { path: { id: x.id }, body: { ...body(), why: reason } })
        : call('POST /api/v1/expectations', { body: { ...body(), why: reason } }),
    onSuccess: (made) => {
      done(x?.id ?? made?.id ?? '')
      close()
    },
  })
  const incomplete =
    (set === 'some' && party.trim() === '') ||
    (sort === 'only' && only.length === 0) ||
    (sort === 'only_until' && day === '') ||
    (sort === 'condition' && conditions.length === 0)
  return (
    <AskDialog
      policy
      wide
      scrollable
      title={x ? 'Change what is expected' : 'Expect something'}
      leave="Cancel"
      submit={x ? 'Change it' : 'Expect it'}
      disabled={save.isPending || incomplete}
      error={save.error}
      close={close}
      onSubmit={() => save.mutate()}
      more={
        <Button variant="outline-primary" disabled={incomplete || look.isPending} onClick={() => look.mutate()}>
          Is it so now?
        </Button>
      }
    >
      <Form.Group controlId="x-set" className="mb-2">
        <Form.Label>Of whom</Form.Label>
        <Form.Select size="sm" value={set} onChange={(e) => setSet(e.target.value)}>
          <option value="everybody">Everybody outside</option>
          <option value="some">A partner, a domain, a group or an address</option>
          {kinds.map(([k, says]) => (
            <option key={k} value={k}>
              {says}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      {set === 'some' && (
        <div className="plain-combo mb-2">
          <Combo label="Which" kind="party" value={party} onChange={setParty} placeholder="partner:…, domain:…, group:… or an address" />
        </div>
      )}
      <Form.Group controlId="x-sort" className="mb-2">
        <Form.Label>What is expected</Form.Label>
        <Form.Select size="sm" value={sort} onChange={(e) => setSort(e.target.value as typeof sort)}>
          {sorts.map(([s, says]) => (
            <option key={s} value={s}>
              {says}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      {sort === 'only' && (
        <Chips label="These, and nobody else" kind="party" values={only} onChange={setOnly} hint="partner, domain, group or address" />
      )}
      {sort === 'at_most' && (
        <Form.Group controlId="x-most" className="mb-2">
          <Form.Label>So many</Form.Label>
          <Form.Control size="sm" type="number" min={0} required value={most} onChange={(e) => setMost(e.target.value)} />
        </Form.Group>
      )}
      {sort === 'only_until' && (
        <Form.Group controlId="x-day" className="mb-2">
          <Form.Label>The last day</Form.Label>
          <Form.Control size="sm" type="date" required value={day} onChange={(e) => setDay(e.target.value)} />
        </Form.Group>
      )}
      {sort === 'condition' && (
        <fieldset className="mb-2">
          <legend>Every yes carries these</legend>
          {['sign_in', 'one_time_code', 'accept_terms', 'password', 'passcode', 'held_until_admitted'].map((c) => (
            <Form.Check
              key={c}
              inline
              id={`x-c-${c}`}
              label={c.replaceAll('_', ' ')}
              checked={conditions.includes(c)}
              onChange={(e) => setConditions(e.target.checked ? [...conditions, c] : conditions.filter((o) => o !== c))}
            />
          ))}
        </fieldset>
      )}
      <Form.Group controlId="x-action" className="mb-2">
        <Form.Label>To do what</Form.Label>
        <Form.Select size="sm" value={action} onChange={(e) => setAction(e.target.value)}>
          <option value="*">Anything</option>
          {services.map((s) => (
            <optgroup key={s} label={s}>
              <option value={`${s}.*`}>anything in {s}</option>
              {actions.data?.actions
                .filter((a) => a.name.startsWith(`${s}.`))
                .map((a) => (
                  <option key={a.name} value={a.name}>
                    {a.title}
                  </option>
                ))}
            </optgroup>
          ))}
        </Form.Select>
      </Form.Group>
      <div className="plain-combo mb-2">
        <Combo
          label="With what; leave empty for everything"
          kind="resource"
          value={resource}
          onChange={setResource}
          placeholder="a space with all in it, a folder, a meeting, a person"
        />
      </div>
      <div className="plain-combo mb-2">
        <Combo label="Who answers for it" kind="person" value={owner} onChange={setOwner} placeholder="empty: the administrators" />
      </div>
      <Form.Group controlId="x-reason" className="mb-2">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={reason} maxLength={1000} onChange={(e) => setReason(e.target.value)} />
      </Form.Group>
      {acts && (
        <Form.Check
          id="x-could"
          className="mb-2"
          label="Nor may it come about without an administrator or keeper"
          checked={could}
          onChange={(e) => setCould(e.target.checked)}
        />
      )}
      <Form.Check
        id="x-tell"
        className="mb-2"
        label="Mail whoever answers for it whenever the answer, the audience or the number changes"
        checked={tell}
        onChange={(e) => setTell(e.target.checked)}
      />
      {look.error && <Wrong error={look.error} />}
      {look.data && (
        <Alert variant={look.data.state === 'broken' ? 'warning' : 'info'}>
          <p>
            <Stands x={look.data} /> {look.data.says}
          </p>
          {look.data.examples.length > 0 && <Counterexamples of={look.data} most={5} />}
        </Alert>
      )}
    </AskDialog>
  )
}
