import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { call, type FeedOut } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { useChange } from '../parts/change'
import { Chips } from '../parts/Chips'
import { Combo } from '../parts/Combo'

type Set = { address: string; key: string; scope: string; of: string[]; every: string; leavers: string; brake: string }

const fresh: Set = { address: '', key: '', scope: 'all', of: [], every: '15', leavers: 'close', brake: '0' }

export function Why({ id, value, onChange }: { id: string; value: string; onChange: (v: string) => void }) {
  return (
    <Form.Group controlId={id}>
      <Form.Label>Why</Form.Label>
      <Form.Control size="sm" value={value} maxLength={1000} onChange={(e) => onChange(e.target.value)} />
    </Form.Group>
  )
}

/** What may be set of a feed that goes out. */
function Fields({ x, set }: { x: Set; set: (x: Set) => void }) {
  return (
    <>
      <Form.Group controlId="fo-address" className="mb-2">
        <Form.Label>Their server (SCIM 2.0)</Form.Label>
        <Form.Control
          size="sm"
          value={x.address}
          placeholder="https://people.partner.example/scim/v2"
          onChange={(e) => set({ ...x, address: e.target.value })}
        />
      </Form.Group>
      <Form.Group controlId="fo-key" className="mb-2">
        <Form.Label>Where this service finds the token that it wants</Form.Label>
        <Form.Control
          size="sm"
          value={x.key}
          placeholder="file:/etc/wexillum/partner.token"
          onChange={(e) => set({ ...x, key: e.target.value })}
        />
        <Form.Text>
          A file on its machine (file:PATH) or a variable of its environment (env:NAME), so that the token stands in no database.
        </Form.Text>
      </Form.Group>
      <Form.Group controlId="fo-scope" className="mb-2">
        <Form.Label>Whom it is about, of those for whom directory.feed_out is on</Form.Label>
        <Form.Select size="sm" value={x.scope} onChange={(e) => set({ ...x, scope: e.target.value, of: [] })}>
          <option value="all">all of them</option>
          <option value="groups">those in groups of ours</option>
          <option value="people">people by name</option>
        </Form.Select>
      </Form.Group>
      {x.scope !== 'all' && (
        <Chips
          key={x.scope}
          label={x.scope === 'groups' ? 'Groups' : 'People'}
          kind={x.scope === 'groups' ? 'group' : 'person'}
          values={x.of}
          onChange={(of) => set({ ...x, of })}
        />
      )}
      <div className="inline-form mb-2">
        <Form.Group controlId="fo-every">
          <Form.Label>Minutes between two rounds</Form.Label>
          <Form.Control
            size="sm"
            type="number"
            min={1}
            max={10080}
            value={x.every}
            onChange={(e) => set({ ...x, every: e.target.value })}
          />
        </Form.Group>
        <Form.Group controlId="fo-brake">
          <Form.Label>Closed in a day at most (0: as the settings say)</Form.Label>
          <Form.Control
            size="sm"
            type="number"
            min={0}
            max={1000000}
            value={x.brake}
            onChange={(e) => set({ ...x, brake: e.target.value })}
          />
        </Form.Group>
      </div>
      <Form.Group controlId="fo-leavers" className="mb-2">
        <Form.Label>Whoever leaves</Form.Label>
        <Form.Select size="sm" value={x.leavers} onChange={(e) => set({ ...x, leavers: e.target.value })}>
          <option value="close">is closed there, and may come back</option>
          <option value="remove">is removed there</option>
        </Form.Select>
      </Form.Group>
    </>
  )
}

const bodyOf = (x: Set) => ({
  address: x.address.trim(),
  key: x.key.trim(),
  scope: x.scope,
  ...(x.scope === 'all' ? {} : { of: x.of }),
  every: Number(x.every),
  leavers: x.leavers,
  brake: Number(x.brake),
})

export function BeginOut({ close, partner: at }: { close: () => void; partner?: string }) {
  const go = useNavigate()
  const [partner, setPartner] = useState(at ?? '')
  const [x, setX] = useState(fresh)
  const [why, setWhy] = useState('')
  const id = partner.trim().replace(/^partner:/, '')
  const begin = useChange(
    () => call('POST /api/v1/feeds-out', { body: { partner: id, ...bodyOf(x), why: why.trim() } }),
    () => void go(`/feeds/out/${id}`),
  )
  return (
    <AskDialog
      title="Keep people of ours at a partner"
      leave="Cancel"
      submit="Begin it"
      disabled={begin.isPending || !id || !x.address.trim() || !x.key.trim() || !why.trim()}
      error={begin.error}
      close={close}
      onSubmit={() => begin.mutate()}
    >
      <p>It is held at first: what it would do is shown, and nothing is sent until you say so.</p>
      {!at && (
        <div className="plain-combo mb-2">
          <Combo label="Partner" kind="partner" value={partner} onChange={setPartner} />
        </div>
      )}
      <Fields x={x} set={setX} />
      <Why id="fo-why" value={why} onChange={setWhy} />
    </AskDialog>
  )
}

export function ChangeOut({ f, close }: { f: FeedOut; close: () => void }) {
  const [x, setX] = useState<Set>({
    address: f.address,
    key: f.key,
    scope: f.scope,
    of: f.of,
    every: String(f.every),
    leavers: f.leavers,
    brake: String(f.brake),
  })
  const [state, setState] = useState<string>(f.state)
  const [why, setWhy] = useState('')
  const go = useChange(
    () => call('PATCH /api/v1/feeds-out/{partner}', { path: { partner: f.partner }, body: { ...bodyOf(x), state, why: why.trim() } }),
    close,
  )
  return (
    <AskDialog
      title={`Feed to ${f.name}`}
      leave="Cancel"
      submit="Save"
      disabled={go.isPending || !why.trim()}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <Form.Group controlId="fo-state" className="mb-2">
        <Form.Label>Sending</Form.Label>
        <Form.Select size="sm" value={state} onChange={(e) => setState(e.target.value)}>
          <option value="held">by hand alone (held)</option>
          <option value="on">by itself (on)</option>
        </Form.Select>
      </Form.Group>
      <Fields x={x} set={setX} />
      <Why id="fo-change-why" value={why} onChange={setWhy} />
    </AskDialog>
  )
}

export function ReleaseOut({ f, close }: { f: FeedOut; close: () => void }) {
  const [why, setWhy] = useState('')
  const go = useChange(
    () => call('POST /api/v1/feeds-out/{partner}/release', { path: { partner: f.partner }, body: { why: why.trim() } }),
    close,
  )
  return (
    <AskDialog
      title={`Let the feed to ${f.name} go on`}
      leave="Cancel"
      submit="Let it go on"
      danger
      disabled={go.isPending || !why.trim()}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>It may close as many accounts there again as in a day{f.most ? `: ${f.most}` : ''}. Look first at whom it would close, and why.</p>
      <Why id="fo-release-why" value={why} onChange={setWhy} />
    </AskDialog>
  )
}

export function EndOut({ f, close }: { f: FeedOut; close: () => void }) {
  const leave = useNavigate()
  const [why, setWhy] = useState('')
  const go = useChange(
    () => call('DELETE /api/v1/feeds-out/{partner}', { path: { partner: f.partner }, query: { why: why.trim() } }),
    () => void leave('/feeds'),
  )
  return (
    <AskDialog
      title={`End the feed to ${f.name}`}
      leave="Cancel"
      submit="End it"
      danger
      disabled={go.isPending || !why.trim()}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>
        Nothing more is sent. The {f.kept} whom it keeps stay there as they are, until somebody of {f.name} closes them. To have them closed
        first, turn directory.feed_out off for {f.name}, and send.
      </p>
      <Why id="fo-end-why" value={why} onChange={setWhy} />
    </AskDialog>
  )
}
