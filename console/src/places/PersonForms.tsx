import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { type PersonView, type PlaceEdit } from '../api'
import { Chips } from '../parts/Chips'
import { patchOf } from './edit'
import { PlaceDialog } from './PlaceDialog'

const personRoles = {
  administrator: 'Administrator',
  auditor: 'Auditor',
  keeper: 'Keeper',
  introducer: 'Introducer: may invite',
  sharer: 'Sharer: may share outside',
}

/** Adds a person of ours, or changes what is written of them. */
export function PersonDialog({ x, admin, close }: { x?: PersonView; admin: boolean; close: () => void }) {
  const navigate = useNavigate()
  const was = {
    name: x?.name ?? '',
    address: x?.address ?? '',
    groups: x?.groups ?? [],
    roles: x?.roles ?? [],
    language: x?.language ?? '',
  }
  const [f, setF] = useState(was)
  const fields = patchOf(x ? was : {}, { ...f, name: f.name.trim(), address: f.address.trim() })
  const edit: PlaceEdit = x ? { do: 'set', kind: 'person', id: x.id, fields } : { do: 'add', kind: 'person', fields }
  return (
    <PlaceDialog
      title={x ? <>Change {x.name || x.id}</> : 'New person'}
      submit={x ? 'Change' : 'Add them'}
      edits={[edit]}
      ready={f.name.trim() !== '' && Object.keys(fields).length > 0}
      name={f.name.trim()}
      close={close}
      done={(r) => !x && navigate(`/people/${r.lines[0].id}`)}
    >
      <Form.Group controlId="pe-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control
          size="sm"
          required
          autoFocus={!x}
          maxLength={200}
          value={f.name}
          onChange={(e) => setF({ ...f, name: e.target.value })}
        />
      </Form.Group>
      <Form.Group controlId="pe-address" className="mb-2">
        <Form.Label>Address</Form.Label>
        <Form.Control
          size="sm"
          value={f.address}
          onChange={(e) => setF({ ...f, address: e.target.value })}
          placeholder="at a domain of ours"
        />
      </Form.Group>
      <Chips label="Groups" kind="group" values={f.groups} onChange={(groups) => setF({ ...f, groups })} hint="a group of ours" />
      <fieldset className="choose mb-2">
        <legend>What they may do here</legend>
        {Object.entries(personRoles).map(([k, v]) => (
          <Form.Check
            key={k}
            id={`pe-${k}`}
            label={v}
            disabled={k === 'administrator' && !admin}
            checked={f.roles.includes(k)}
            onChange={(e) => setF({ ...f, roles: e.target.checked ? [...f.roles, k] : f.roles.filter((r) => r !== k) })}
          />
        ))}
      </fieldset>
      <Form.Group controlId="pe-language" className="mb-2">
        <Form.Label>Language of their mail</Form.Label>
        <Form.Select size="sm" value={f.language} onChange={(e) => setF({ ...f, language: e.target.value })}>
          <option value="">not said: English</option>
          <option value="en">English</option>
          <option value="pt">Português</option>
        </Form.Select>
      </Form.Group>
    </PlaceDialog>
  )
}

/** Forwards a person's mail; what forbids it is told with what would help. */
export function ForwarderDialog({ person, name, close }: { person: string; name: string; close: () => void }) {
  const [to, setTo] = useState('')
  const [copy, setCopy] = useState(true)
  return (
    <PlaceDialog
      title={<>Forward the mail of {name}</>}
      submit="Forward it"
      edits={[{ do: 'add', kind: 'forwarder', fields: { mailbox: person, to: to.trim(), keep_copy: copy ? 'yes' : 'no' } }]}
      ready={to.includes('@')}
      name={`Mail of ${name} to ${to.trim()}`}
      close={close}
    >
      <Form.Group controlId="fw-to" className="mb-2">
        <Form.Label>To</Form.Label>
        <Form.Control size="sm" type="email" autoFocus required value={to} onChange={(e) => setTo(e.target.value)} placeholder="address" />
      </Form.Group>
      <Form.Check id="fw-copy" label="A copy stays in the mailbox" checked={copy} onChange={(e) => setCopy(e.target.checked)} />
    </PlaceDialog>
  )
}

/** Notes a contact of a person of ours with somebody outside. */
export function ContactDialog({ person, name, close }: { person: string; name: string; close: () => void }) {
  const [party, setParty] = useState('')
  const [accepted, setAccepted] = useState(false)
  return (
    <PlaceDialog
      title={<>A contact of {name}</>}
      submit="Add it"
      edits={[{ do: 'add', kind: 'contact', fields: { person, party: party.trim(), state: accepted ? 'accepted' : 'asked' } }]}
      ready={party.includes('@')}
      name={`${name} and ${party.trim()}`}
      close={close}
    >
      <Form.Group controlId="ct-party" className="mb-2">
        <Form.Label>Who outside</Form.Label>
        <Form.Control
          size="sm"
          type="email"
          autoFocus
          required
          value={party}
          onChange={(e) => setParty(e.target.value)}
          placeholder="address"
        />
      </Form.Group>
      <Form.Check id="ct-accepted" label="They have accepted" checked={accepted} onChange={(e) => setAccepted(e.target.checked)} />
    </PlaceDialog>
  )
}
