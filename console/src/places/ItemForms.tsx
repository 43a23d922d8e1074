import { Form } from 'react-bootstrap'
import { useState } from 'react'
import { type ItemView } from '../api'
import { Combo } from '../parts/Combo'
import { patchOf } from './edit'
import { PlaceDialog } from './PlaceDialog'
import { itemKinds } from './SpaceForms'

/** A new item of a space. */
export function NewItem({ space, close }: { space: string; close: () => void }) {
  const [f, setF] = useState({ name: '', kind: 'folder', private: false })
  return (
    <PlaceDialog
      title="New item"
      submit="Make it"
      edits={[{ do: 'add', kind: 'item', fields: { space, name: f.name.trim(), kind: f.kind, ...(f.private ? { private: 'yes' } : {}) } }]}
      ready={f.name.trim() !== ''}
      name={f.name.trim()}
      close={close}
    >
      <div className="form-row">
        <Form.Group controlId="it-kind">
          <Form.Label>Kind</Form.Label>
          <Form.Select size="sm" value={f.kind} onChange={(e) => setF({ ...f, kind: e.target.value })}>
            {itemKinds.map((k) => (
              <option key={k}>{k}</option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="it-name">
          <Form.Label>Name</Form.Label>
          <Form.Control
            size="sm"
            required
            autoFocus
            maxLength={200}
            value={f.name}
            onChange={(e) => setF({ ...f, name: e.target.value })}
          />
        </Form.Group>
      </div>
      <Form.Check
        id="it-private"
        label="Private: nobody reaches it through the space, only by a role or a link of its own"
        checked={f.private}
        onChange={(e) => setF({ ...f, private: e.target.checked })}
      />
    </PlaceDialog>
  )
}

/** What is written of an item, and where it is. */
export function ChangeItem({ it, space, close }: { it: ItemView; space: string; close: () => void }) {
  const was = { name: it.name, private: it.private ? 'yes' : 'no', space }
  const [f, setF] = useState(was)
  const fields = patchOf(was, { ...f, space: f.space.replace(/^space:/, '') })
  return (
    <PlaceDialog
      title={<>Change {it.name}</>}
      submit="Change it"
      edits={[{ do: 'set', kind: 'item', id: it.id, fields }]}
      ready={Object.keys(fields).length > 0}
      name={it.name}
      close={close}
    >
      <Form.Group controlId="it-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control size="sm" required maxLength={200} value={f.name} onChange={(e) => setF({ ...f, name: e.target.value })} />
      </Form.Group>
      <Form.Check
        id="it-private"
        label="Private: nobody reaches it through the space, only by a role or a link of its own"
        checked={f.private === 'yes'}
        onChange={(e) => setF({ ...f, private: e.target.checked ? 'yes' : 'no' })}
      />
      <div className="plain-combo mt-2">
        <Combo label="In the space" kind="space" value={f.space} onChange={(v) => setF({ ...f, space: v })} />
      </div>
    </PlaceDialog>
  )
}
