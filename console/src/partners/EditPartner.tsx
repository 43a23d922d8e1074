import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { call, type Partner } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { since } from '../parts/bits'
import { Combo } from '../parts/Combo'

export function Facts({ p }: { p: Partner }) {
  const facts: [string, string | undefined][] = [
    ['Id', p.id],
    ['Also named', p.also_named?.join(', ')],
    ['Their administrator', p.contacts?.join(', ') ?? 'nobody known'],
    ['Looked after by', p.owner ?? 'nobody of ours'],
    ['Review', p.review ? since(p.review) : 'no day set'],
    ['Note', p.note],
  ]
  return (
    <dl className="facts">
      {facts.map(([k, v]) =>
        v ? (
          <div className="fact-pair" key={k}>
            <dt>{k}</dt>
            <dd>{v}</dd>
          </div>
        ) : null,
      )}
    </dl>
  )
}

export function Edit({ p, close, done }: { p: Partner; close: () => void; done: (p: Partner) => void }) {
  const [f, setF] = useState({
    name: p.name,
    also: p.also_named?.join(', ') ?? '',
    contacts: p.contacts?.join(', ') ?? '',
    owner: p.owner ?? '',
    review: p.review ?? '',
    note: p.note ?? '',
    statement: p.statement ?? '',
    sign_in: p.sign_in ?? '',
    sign_in_client: p.sign_in_client ?? '',
    why: '',
  })
  const [unverified, setUnverified] = useState(p.sign_in_unverified ?? false)
  const list = (t: string) =>
    t
      .split(',')
      .map((x) => x.trim())
      .filter(Boolean)
  const save = useMutation({
    mutationFn: () => {
      const { also, contacts, why, ...texts } = f
      const given = Object.fromEntries(Object.entries(texts).map(([k, v]) => [k, v.trim() || null]))
      const signIn = f.sign_in.trim() ? { sign_in_unverified: unverified } : { sign_in_client: null, sign_in_unverified: null }
      return call('PATCH /api/v1/partners/{id}', {
        path: { id: p.id },
        body: { ...given, also_named: list(also), contacts: list(contacts), ...signIn, ...(why ? { why } : {}) },
        headers: { 'If-Match': p.etag },
      })
    },
    onSuccess: (x) => {
      done(x)
      close()
    },
  })
  const field = (k: keyof typeof f, label: string, hint?: string) => (
    <Form.Group controlId={`e-${k}`} className="mb-2">
      <Form.Label>{label}</Form.Label>
      <Form.Control size="sm" required={k === 'name'} value={f[k]} onChange={(e) => setF({ ...f, [k]: e.target.value })} />
      {hint && <Form.Text>{hint}</Form.Text>}
    </Form.Group>
  )
  return (
    <AskDialog
      policy
      scrollable
      title={<>Change what is written of {p.name}</>}
      leave="Cancel"
      submit="Save"
      disabled={save.isPending}
      error={save.error}
      close={close}
      onSubmit={() => save.mutate()}
    >
      {field('name', 'Name')}
      {field('also', 'Other names', 'Separated by commas; it is found by them too.')}
      {field('contacts', 'Who administers their side', 'Addresses, separated by commas.')}
      <div className="plain-combo mb-2">
        <Combo label="Looked after by" kind="person" value={f.owner} onChange={(owner) => setF({ ...f, owner })} />
      </div>
      {field('review', 'Look at it again on', 'A date, or days from today as +180d.')}
      {field('note', 'Note')}
      {field('statement', 'Where their signed statement is published', 'Empty where they publish none.')}
      {field('sign_in', 'Their own sign-in', 'The issuer of OpenID Connect; empty where guests come in with mailed codes.')}
      {f.sign_in && field('sign_in_client', 'As whom we are known there')}
      {f.sign_in && (
        <Form.Check
          className="mb-2"
          id="e-unverified"
          label="Take addresses that their sign-in does not call verified"
          checked={unverified}
          onChange={(e) => setUnverified(e.target.checked)}
        />
      )}
      {field('why', 'Why')}
    </AskDialog>
  )
}

export function AskStanding({
  p,
  standing,
  close,
  done,
}: {
  p: Partner
  standing: Partner['standing']
  close: () => void
  done: (p: Partner) => void
}) {
  const [why, setWhy] = useState('')
  const set = useMutation({
    mutationFn: () =>
      call('POST /api/v1/partners/{id}/standing', {
        path: { id: p.id },
        body: { standing, ...(why ? { why } : {}) },
        headers: { 'If-Match': p.etag },
      }),
    onSuccess: (x) => {
      done(x)
      close()
    },
  })
  const verb = { active: 'Bring back', suspended: 'Suspend', ended: 'End' }[standing] ?? standing
  const what = {
    active: 'What was open before is open again.',
    suspended:
      'Every decision about its people refuses; no record changes, and bringing it back restores exactly what was there. Links that anybody may hold still work.',
    ended: 'It decides like suspended; its domains stay taken.',
  }[standing]
  return (
    <AskDialog
      policy
      title={
        <>
          {verb} {p.name}?
        </>
      }
      leave="Cancel"
      submit={verb}
      disabled={set.isPending}
      danger={!(standing === 'active')}
      error={set.error}
      close={close}
      onSubmit={() => set.mutate()}
    >
      <p>
        This concerns <b>{p.counts.guests} guests</b> with <b>{p.counts.grants} grants</b> in <b>{p.counts.spaces} spaces</b>. {what}
      </p>
      <Form.Group controlId="s-why">
        <Form.Label>Why</Form.Label>
        <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} autoFocus />
      </Form.Group>
    </AskDialog>
  )
}
