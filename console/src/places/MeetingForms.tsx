import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { type PlaceEdit } from '../api'
import { Chips } from '../parts/Chips'
import { Combo } from '../parts/Combo'
import { patchOf } from './edit'
import { PlaceDialog } from './PlaceDialog'

export interface Meeting {
  id: string
  name?: string
  host?: string
  space?: string
  sign_in_domains?: string[]
  sign_in_lists?: string[]
  passcode?: string
  standing_room?: string
  waiting_text?: string
  repeats?: string
  /** What the people and spaces that it names are called. */
  names: Record<string, string>
}

/** Makes a meeting, or changes one. */
export function MeetingDialog({ x, person, space, close }: { x?: Meeting; person?: string; space?: string; close: () => void }) {
  const navigate = useNavigate()
  const was = {
    name: x?.name ?? '',
    host: x?.host ?? '',
    space: x?.space ?? '',
    sign_in_domains: x?.sign_in_domains ?? [],
    sign_in_lists: x?.sign_in_lists ?? [],
    passcode: x?.passcode ?? 'no',
    standing_room: x?.standing_room ?? 'no',
    waiting_text: x?.waiting_text ?? '',
    repeats: x?.repeats ?? 'once',
  }
  const [f, setF] = useState(x ? was : { ...was, host: person ?? '', space: space ?? '' })
  const fields = patchOf(x ? was : { passcode: 'no', standing_room: 'no', repeats: 'once' }, {
    ...f,
    name: f.name.trim(),
    host: f.host.replace(/^person:/, ''),
    space: f.space.replace(/^space:/, ''),
  })
  const edit: PlaceEdit = x ? { do: 'set', kind: 'meeting', id: x.id, fields } : { do: 'add', kind: 'meeting', fields }
  return (
    <PlaceDialog
      title={x ? <>Change {x.name || x.id}</> : 'New meeting'}
      submit={x ? 'Change it' : 'Make the meeting'}
      edits={[edit]}
      ready={f.name.trim() !== '' && f.host !== '' && Object.keys(fields).length > 0}
      name={f.name.trim()}
      close={close}
      done={(r) => !x && navigate(`/meetings/${r.lines[0].id}`)}
    >
      <Form.Group controlId="me-name" className="mb-2">
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
      <div className="plain-combo mb-2">
        <Combo label="Host" kind="person" value={f.host} onChange={(host) => setF({ ...f, host })} placeholder="a person of ours" />
      </div>
      <div className="plain-combo mb-2">
        <Combo
          label="Space that it belongs to"
          kind="space"
          value={f.space}
          onChange={(v) => setF({ ...f, space: v })}
          placeholder="none"
        />
      </div>
      <Chips
        label="Only from these domains; leave empty for whoever the rules admit"
        kind="domain"
        values={f.sign_in_domains}
        onChange={(sign_in_domains) => setF({ ...f, sign_in_domains })}
        hint="orrin.example"
      />
      <Chips
        label="And from the domains of these lists"
        kind="domain_list"
        values={f.sign_in_lists}
        onChange={(sign_in_lists) => setF({ ...f, sign_in_lists })}
        hint="a list, by name"
      />
      <Form.Check
        id="me-pass"
        label="It has a passcode"
        checked={f.passcode === 'yes'}
        onChange={(e) => setF({ ...f, passcode: e.target.checked ? 'yes' : 'no' })}
      />
      <div className="form-row mt-2">
        <Form.Group controlId="me-repeats">
          <Form.Label>Held</Form.Label>
          <Form.Select size="sm" value={f.repeats} onChange={(e) => setF({ ...f, repeats: e.target.value })}>
            {['once', 'daily', 'weekly', 'monthly'].map((r) => (
              <option key={r}>{r}</option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="me-text">
          <Form.Label>What those read who wait</Form.Label>
          <Form.Control
            size="sm"
            maxLength={500}
            value={f.waiting_text}
            onChange={(e) => setF({ ...f, waiting_text: e.target.value })}
            placeholder="We let you in soon."
          />
        </Form.Group>
      </div>
      <Form.Check
        id="me-room"
        label="A standing room: it is always there, for repeated meetings"
        checked={f.standing_room === 'yes'}
        onChange={(e) => setF({ ...f, standing_room: e.target.checked ? 'yes' : 'no' })}
      />
    </PlaceDialog>
  )
}
