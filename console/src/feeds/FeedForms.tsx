import { Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { useMutation } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { call, type Feed } from '../api'
import { useChange, useRefresh } from '../parts/change'
import { Combo } from '../parts/Combo'
import { TokenTold } from './FeedsPage'
import { outcome } from './words'

export function ChangeFeed({ f, close }: { f: Feed; close: () => void }) {
  const [state, setState] = useState<string>(f.state)
  const [sponsor, setSponsor] = useState(f.sponsor ? `person:${f.sponsor}` : '')
  const [address, setAddress] = useState<string>(f.address)
  const [name, setName] = useState<string>(f.name_from)
  const [consent, setConsent] = useState(f.consent)
  const [brake, setBrake] = useState(String(f.brake))
  const [why, setWhy] = useState('')
  const person = sponsor.trim().replace(/^person:/, '')
  const body = {
    ...(state !== f.state ? { state } : {}),
    ...(person !== (f.sponsor ?? '') ? { sponsor: person } : {}),
    ...(address !== f.address ? { address } : {}),
    ...(name !== f.name_from ? { name_from: name } : {}),
    ...(consent !== f.consent ? { consent } : {}),
    ...(Number(brake) !== f.brake ? { brake: Number(brake) } : {}),
  }
  const go = useChange(
    () => call('PATCH /api/v1/feeds/{partner}', { path: { partner: f.partner }, body: { ...body, why: why.trim() } }),
    close,
  )
  return (
    <AskDialog
      title={`Feed of ${f.name}`}
      leave="Cancel"
      submit="Save"
      disabled={go.isPending || why.trim() === '' || Object.keys(body).length === 0}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <Form.Group controlId="fd-state" className="mb-2">
        <Form.Label>What it tells</Form.Label>
        <Form.Select size="sm" value={state} onChange={(e) => setState(e.target.value)}>
          <option value="watched">is shown alone (watched)</option>
          <option value="on">comes to records at once (on)</option>
        </Form.Select>
      </Form.Group>
      {state === 'on' && f.state !== 'on' && f.waiting > 0 && <p>From now on. The {f.waiting} who wait come when you bring them in.</p>}
      <div className="plain-combo mb-2">
        <Combo label="Who answers for those who come" kind="person" value={sponsor} onChange={setSponsor} />
      </div>
      <Form.Group controlId="fd-address" className="mb-2">
        <Form.Label>Address</Form.Label>
        <Form.Select size="sm" value={address} onChange={(e) => setAddress(e.target.value)}>
          <option value="either">userName where it is one, else the primary mail</option>
          <option value="userName">userName</option>
          <option value="emails">the primary mail</option>
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="fd-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Select size="sm" value={name} onChange={(e) => setName(e.target.value)}>
          <option value="any">displayName, else the parts of the name</option>
          <option value="displayName">displayName</option>
          <option value="name">the parts of the name</option>
        </Form.Select>
      </Form.Group>
      <Form.Check
        id="fd-consent"
        className="mb-2"
        label="Their side says that it skips the question before the first use"
        checked={consent}
        onChange={(e) => setConsent(e.target.checked)}
      />
      <Form.Group controlId="fd-brake" className="mb-2">
        <Form.Label>How many accounts it may close in a day (0: as the settings say)</Form.Label>
        <Form.Control size="sm" type="number" min={0} max={1000000} value={brake} onChange={(e) => setBrake(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="fd-change-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

/** Brings in those who wait, share by share, with a bar; it can be stopped, and nothing is lost. */
export function Apply({ f, close }: { f: Feed; close: () => void }) {
  const refresh = useRefresh()
  const [few, setFew] = useState('3')
  const [all, setAll] = useState(false)
  const [why, setWhy] = useState('')
  const [begun] = useState(f.waiting)
  const [left, setLeft] = useState<number>()
  const [sum, setSum] = useState<Record<string, number>>({})
  const stop = useRef(false)
  const go = useMutation({
    mutationFn: async () => {
      stop.current = false
      const done: Record<string, number> = {}
      for (let want = all ? Infinity : Number(few); want > 0 && !stop.current;) {
        const x = await call('POST /api/v1/feeds/{partner}/apply', {
          path: { partner: f.partner },
          body: { most: Math.min(200, want), why: why.trim() },
        })
        let did = x.refused
        for (const [k, n] of Object.entries(x.done)) {
          done[k] = (done[k] ?? 0) + n
          did += n
        }
        if (x.refused) done.refused = x.refused
        setSum({ ...done })
        setLeft(x.left)
        want -= did
        if (did === 0 || x.left <= x.refused) break
      }
      void refresh()
    },
  })
  return (
    <AskDialog
      title="Bring in whom it tells of"
      lock={false}
      leave={go.isPending ? 'Stop' : go.isSuccess ? 'Close' : 'Cancel'}
      submit={all ? 'Bring in all' : `Bring in ${few}`}
      disabled={go.isPending || why.trim() === '' || (!all && !(Number(few) > 0))}
      error={go.error}
      close={() => (go.isPending ? (stop.current = true) : close())}
      onSubmit={() => go.mutate()}
    >
      <Form.Check id="fd-few" type="radio" label="a few first" disabled={go.isPending} checked={!all} onChange={() => setAll(false)} />
      {!all && (
        <Form.Control
          size="sm"
          className="mb-2"
          type="number"
          min={1}
          max={f.waiting}
          aria-label="How many"
          value={few}
          onChange={(e) => setFew(e.target.value)}
        />
      )}
      <Form.Check
        id="fd-all"
        className="mb-2"
        type="radio"
        label={`all ${f.waiting}`}
        disabled={go.isPending}
        checked={all}
        onChange={() => setAll(true)}
      />
      <Form.Group controlId="fd-apply-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
      {left !== undefined && (
        <div role="status" className="mt-2">
          <progress max={begun} value={Math.max(0, begun - left)} aria-label="Brought in" />
          <p>
            {Object.entries(sum)
              .map(([k, n]) => `${outcome[k]}: ${n}`)
              .join('; ')}
            . {left} wait.
          </p>
        </div>
      )}
    </AskDialog>
  )
}

export function NewToken({ f, close }: { f: Feed; close: () => void }) {
  const refresh = useRefresh()
  const [why, setWhy] = useState('')
  const go = useMutation({
    mutationFn: () => call('POST /api/v1/feeds/{partner}/token', { path: { partner: f.partner }, body: { why: why.trim() } }),
    onSuccess: () => void refresh(),
  })
  if (go.data) return <TokenTold x={go.data} close={close} />
  return (
    <AskDialog
      title="A new token"
      leave="Cancel"
      submit="Make it"
      disabled={go.isPending || why.trim() === ''}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>The one before works no longer from then on: the feed is silent until their side has the new one.</p>
      <Form.Group controlId="fd-token-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

export function WithWhy({
  f,
  title,
  submit,
  go: send,
  text,
  close,
}: {
  f: Feed
  title: string
  submit: string
  go: (why: string) => Promise<unknown>
  text: string
  close: () => void
}) {
  const [why, setWhy] = useState('')
  const go = useChange(() => send(why.trim()), close)
  return (
    <AskDialog
      title={`${title}: ${f.name}`}
      leave="Cancel"
      submit={submit}
      danger
      disabled={go.isPending || why.trim() === ''}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>{text}</p>
      <Form.Group controlId="fd-release-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

export function EndFeed({ f, close }: { f: Feed; close: () => void }) {
  const [why, setWhy] = useState('')
  const [closed, setClosed] = useState(false)
  const go = useChange(
    () => call('DELETE /api/v1/feeds/{partner}', { path: { partner: f.partner }, query: { why: why.trim(), closed: closed } }),
    () => {
      close()
      history.back()
    },
  )
  return (
    <AskDialog
      title={`End the feed of ${f.name}`}
      leave="Cancel"
      submit="End it"
      danger
      disabled={go.isPending || why.trim() === ''}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>Its token works no longer. Of the {f.all - f.waiting} people whom it brought here</p>
      <Form.Check
        id="fd-stay"
        type="radio"
        label="those whom it alone kept become guests like others, and their term begins now"
        checked={!closed}
        onChange={() => setClosed(false)}
      />
      <Form.Check
        id="fd-close"
        className="mb-2"
        type="radio"
        label="all count as closed: they are suspended, and removed after their grace"
        checked={closed}
        onChange={() => setClosed(true)}
      />
      <Form.Group controlId="fd-end-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
