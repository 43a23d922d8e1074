import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { call, type Operations, type Partner, type Rearranged } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Combo } from '../parts/Combo'
import { useRefresh } from '../parts/change'
import { idOf } from '../parts/ids'

/** What a merge or a split would do, before it is done. */
function Weighing({ x }: { x: Rearranged }) {
  return (
    <div data-testid="weighed" className="mt-3">
      <p role="status">
        That concerns <b>{x.concerns.guests} guests</b> with <b>{x.concerns.grants} grants</b> in <b>{x.concerns.spaces} spaces</b>.
        {x.differs.length === 0 && ' They find nothing otherwise.'}
      </p>
      {x.named.length > 0 && <p className="quiet">Named in, and followed: {x.named.join(', ')}.</p>}
      {x.differs.length > 0 && (
        <table className="table listing">
          <caption>What changes for them</caption>
          <thead>
            <tr>
              <th scope="col">What</th>
              <th scope="col">Now</th>
              <th scope="col">Then</th>
            </tr>
          </thead>
          <tbody>
            {x.differs.map((d) => (
              <tr key={d.what}>
                <th scope="row">{d.what}</th>
                <td>{d.was}</td>
                <td>{d.becomes}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  )
}

function useRearrange<K extends 'merge' | 'split'>(how: K, p: Partner, close: () => void) {
  const refresh = useRefresh()
  const navigate = useNavigate()
  const [weighed, setWeighed] = useState<Rearranged>()
  const run = useMutation({
    mutationFn: ({ body, preview }: { body: Operations[`POST /api/v1/partners/{id}/${K}`]['body']; preview: boolean }) =>
      call<`POST /api/v1/partners/{id}/${'merge' | 'split'}`>(`POST /api/v1/partners/{id}/${how}`, {
        path: { id: p.id },
        query: { preview },
        body,
        headers: { 'If-Match': p.etag },
      }),
    onSuccess: (x) => {
      if (x.preview) return setWeighed(x)
      close()
      navigate(`/partners/${x.partner.id}`)
      void refresh()
    },
  })
  return { weighed, forget: () => setWeighed(undefined), run }
}

export function Merge({ p, close }: { p: Partner; close: () => void }) {
  const [into, setInto] = useState('')
  const { weighed, forget, run } = useRearrange('merge', p, close)
  return (
    <AskDialog
      title={<>Merge {p.name} into another</>}
      leave="Cancel"
      submit={weighed ? 'Merge' : 'See what would change'}
      disabled={run.isPending || into.trim() === ''}
      danger={weighed !== undefined}
      error={run.error}
      close={close}
      onSubmit={() => run.mutate({ body: { into: into.trim() }, preview: !weighed })}
    >
      <p>Its domains become those of the other, whose record then counts for everybody. What names {p.name} names the other instead.</p>
      <div className="plain-combo">
        <Combo
          label="The one that stays"
          kind="partner"
          value={into}
          onChange={(v) => {
            setInto(v)
            forget()
          }}
        />
      </div>
      {weighed && <Weighing x={weighed} />}
    </AskDialog>
  )
}

export function Split({ p, close }: { p: Partner; close: () => void }) {
  const [domains, setDomains] = useState<string[]>([])
  const [name, setName] = useState('')
  const [id, setID] = useState('')
  const { weighed, forget, run } = useRearrange('split', p, close)
  return (
    <AskDialog
      title={<>Split domains off {p.name}</>}
      leave="Cancel"
      submit={weighed ? 'Split' : 'See what would change'}
      disabled={run.isPending || domains.length === 0}
      error={run.error}
      close={close}
      onSubmit={() => run.mutate({ body: { domains, id, name }, preview: !weighed })}
    >
      <p>They become a partner of their own with the same standing, openings, rules and stances: nobody’s reach changes.</p>
      <fieldset className="mb-3">
        <legend className="fs-6">Domains of the new one</legend>
        {p.domains.map((d) => {
          const value = (d.subdomains ? '*.' : '') + d.name
          return (
            <Form.Check
              key={d.name}
              id={`sp-${d.name}`}
              label={d.name + (d.subdomains ? ' and below' : '')}
              checked={domains.includes(value)}
              onChange={(e) => {
                setDomains(e.target.checked ? [...domains, value] : domains.filter((x) => x !== value))
                forget()
              }}
            />
          )
        })}
      </fieldset>
      <Form.Group controlId="sp-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control
          size="sm"
          required
          value={name}
          onChange={(e) => {
            setName(e.target.value)
            setID(idOf(e.target.value))
            forget()
          }}
        />
      </Form.Group>
      <Form.Group controlId="sp-id">
        <Form.Label>Id</Form.Label>
        <Form.Control
          size="sm"
          required
          pattern="[a-z0-9][a-z0-9._\-]*"
          value={id}
          onChange={(e) => {
            setID(e.target.value)
            forget()
          }}
        />
      </Form.Group>
      {weighed && <Weighing x={weighed} />}
    </AskDialog>
  )
}
