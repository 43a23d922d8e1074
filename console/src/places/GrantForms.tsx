import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { type GivenRole } from '../api'
import { Combo } from '../parts/Combo'
import { PlaceDialog } from './PlaceDialog'

const roles = ['view', 'contribute', 'manage']

/** Gives a role to somebody who is a guest already, to a group, or to everybody of a partner or a domain. */
export function GiveRole({ resource, close }: { resource: string; close: () => void }) {
  const [f, setF] = useState({ party: '', role: 'view', until: '' })
  return (
    <PlaceDialog
      title="Give a role"
      submit="Give it"
      edits={[
        { do: 'add', kind: 'grant', fields: { party: f.party.trim(), resource, role: f.role, ...(f.until ? { until: f.until } : {}) } },
      ]}
      ready={f.party.trim() !== ''}
      name={f.party.trim()}
      close={close}
    >
      <p className="quiet">
        For a guest or a group whom you know; somebody new is invited.
        {resource.startsWith('space:') &&
          ' Everybody of a partner, or at a domain (write domain:NAME), becomes a member with the account they have at home: nobody becomes a guest, and whoever joins them later is a member too.'}
      </p>
      <div className="plain-combo mb-2">
        <Combo
          label="To whom"
          kind="party"
          value={f.party}
          onChange={(party) => setF({ ...f, party })}
          placeholder="name, address, group or partner"
        />
      </div>
      <RoleFields f={f} setF={(x) => setF({ ...f, ...x })} />
    </PlaceDialog>
  )
}

function RoleFields({ f, setF }: { f: { role: string; until: string }; setF: (x: { role?: string; until?: string }) => void }) {
  return (
    <div className="form-row">
      <Form.Group controlId="gr-role">
        <Form.Label>Role</Form.Label>
        <Form.Select size="sm" value={f.role} onChange={(e) => setF({ role: e.target.value })}>
          {roles.map((r) => (
            <option key={r}>{r}</option>
          ))}
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="gr-until">
        <Form.Label>Last day</Form.Label>
        <Form.Control size="sm" type="date" value={f.until} onChange={(e) => setF({ until: e.target.value })} />
        <Form.Text>Empty: no end of its own.</Form.Text>
      </Form.Group>
    </div>
  )
}

/** Changes the role or the end of what was given. */
export function ChangeRole({ g, close }: { g: GivenRole; close: () => void }) {
  const [f, setF] = useState({ role: g.role, until: '' })
  const fields: Record<string, unknown> = { ...(f.role !== g.role ? { role: f.role } : {}), ...(f.until ? { until: f.until } : {}) }
  return (
    <PlaceDialog
      title={<>Role of {g.name || g.party}</>}
      submit="Change it"
      edits={[{ do: 'set', kind: 'grant', id: `${g.party} ${g.resource} ${g.role}`, fields }]}
      ready={Object.keys(fields).length > 0}
      name={g.name || g.party}
      close={close}
    >
      <RoleFields f={f} setF={(x) => setF({ ...f, ...x })} />
    </PlaceDialog>
  )
}

/** Ends what was given. */
export function EndRole({ g, close }: { g: GivenRole; close: () => void }) {
  return (
    <PlaceDialog
      title={<>End the role of {g.name || g.party}</>}
      submit="End it"
      danger
      edits={[{ do: 'remove', kind: 'grant', id: `${g.party} ${g.resource} ${g.role}` }]}
      name={g.name || g.party}
      close={close}
    />
  )
}
