import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { type LinkView } from '../api'
import { Chips } from '../parts/Chips'
import { patchOf } from './edit'
import { PlaceDialog } from './PlaceDialog'

/** What a link allows, until when, and whom it names. */
export function ChangeLink({ link, close }: { link: LinkView; close: () => void }) {
  const was = {
    right: link.right,
    download: link.download ? 'yes' : 'no',
    password: link.password ? 'yes' : 'no',
    for: link.for ?? [],
    until: '',
  }
  const [f, setF] = useState(was)
  const { for: named, ...rest } = f
  const fields = patchOf(was, link.bearer ? rest : { ...rest, for: named })
  return (
    <PlaceDialog
      title={<>Change the link to {link.item_name || link.item}</>}
      submit="Change it"
      edits={[{ do: 'set', kind: 'link', id: link.id, fields }]}
      ready={Object.keys(fields).length > 0 && (link.bearer || named.length > 0)}
      name={link.id}
      close={close}
    >
      <div className="form-row">
        <Form.Group controlId="li-right">
          <Form.Label>Right</Form.Label>
          <Form.Select size="sm" value={f.right} onChange={(e) => setF({ ...f, right: e.target.value })}>
            <option>view</option>
            <option>contribute</option>
            {!link.bearer && <option>manage</option>}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="li-until">
          <Form.Label>New last day</Form.Label>
          <Form.Control size="sm" type="date" value={f.until} onChange={(e) => setF({ ...f, until: e.target.value })} />
          <Form.Text>Empty: as it is.</Form.Text>
        </Form.Group>
      </div>
      {!link.bearer && (
        <Chips label="Whom it names" kind="address" values={named} onChange={(v) => setF({ ...f, for: v })} hint="addresses" />
      )}
      <Form.Check
        id="li-download"
        label="It may be downloaded"
        checked={f.download === 'yes'}
        onChange={(e) => setF({ ...f, download: e.target.checked ? 'yes' : 'no' })}
      />
      <Form.Check
        id="li-password"
        label="A password is asked"
        checked={f.password === 'yes'}
        onChange={(e) => setF({ ...f, password: e.target.checked ? 'yes' : 'no' })}
      />
    </PlaceDialog>
  )
}
