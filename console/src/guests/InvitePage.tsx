import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, type Invited, type Session } from '../api'
import { Combo } from '../parts/Combo'
import { dayFromNow, Page, until as untilText, Wrong } from '../parts/bits'
import { Line } from './Line'
import { OpensList, Outcomes } from './Outcomes'
import { useRefresh } from '../parts/change'

/** Inviting as one page: whom, into what, and, before anything is sent, all that it opens. */
export function InvitePage({ session }: { session: Session }) {
  const refresh = useRefresh()
  const [params] = useSearchParams()
  const [f, setF] = useState({
    list: params.get('list') ?? '',
    into: params.get('into') ?? '',
    role: 'view',
    purpose: '',
    text: '',
    landing: '',
    sponsor: '',
    until: '',
    language: '',
    location: '',
    licence: '',
  })
  const [weighed, setWeighed] = useState<{ key: string; x: Invited }>()
  const [sent, setSent] = useState<Invited>()
  const body = () => {
    const role = f.into && !/^(group:|directory)/.test(f.into) ? (f.role as 'view' | 'contribute' | 'manage') : undefined
    const given = Object.fromEntries(Object.entries(f).filter(([k, v]) => v.trim() !== '' && k !== 'role')) as Partial<typeof f>
    return { ...given, list: f.list, role }
  }
  const key = JSON.stringify(body())
  const weigh = useMutation({
    mutationFn: () => call('POST /api/v1/invitations', { query: { preview: true }, body: body() }),
    onSuccess: (x) => setWeighed({ key, x }),
  })
  const send = useMutation({
    mutationFn: () => call('POST /api/v1/invitations', { body: body(), headers: { 'Idempotency-Key': crypto.randomUUID() } }),
    onSuccess: (x) => {
      setSent(x)
      setWeighed(undefined)
      void refresh()
    },
  })
  const ahead = weighed?.key === key ? weighed.x : undefined
  const field = (k: keyof typeof f, label: string, hint?: string, more: object = {}) => (
    <Form.Group controlId={`i-${k}`} className="mb-2">
      <Form.Label>{label}</Form.Label>
      <Form.Control size="sm" value={f[k]} onChange={(e) => setF({ ...f, [k]: e.target.value })} {...more} />
      {hint && <Form.Text>{hint}</Form.Text>}
    </Form.Group>
  )
  const whole = f.into && !/^(group:|directory)/.test(f.into)
  const yes = ahead ? (ahead.counts.invited ?? 0) + (ahead.counts.given ?? 0) : 0
  return (
    <Page
      title="Invite"
      lead="Invite one address or a list. First see what the invitation would open, what would be narrower, and what happens to each address. Nothing is sent before you confirm."
    >
      <div className="invite">
        <Form
          className="invite-form"
          onSubmit={(e) => {
            e.preventDefault()
            setSent(undefined)
            weigh.mutate()
          }}
        >
          {field('list', 'Whom', 'One a line or between commas; a name may stand before an address in angle brackets.', {
            as: 'textarea',
            rows: 3,
            required: true,
          })}
          <div className="form-row">
            <div className="plain-combo">
              <Combo
                label="Into"
                kind="resource"
                placeholder="the directory, a space, a single item"
                value={f.into}
                onChange={(into) => setF({ ...f, into })}
              />
            </div>
            {whole && (
              <Form.Group controlId="i-role">
                <Form.Label>Role</Form.Label>
                <Form.Select size="sm" value={f.role} onChange={(e) => setF({ ...f, role: e.target.value })}>
                  <option>view</option>
                  <option>contribute</option>
                  <option>manage</option>
                </Form.Select>
              </Form.Group>
            )}
            {field('until', 'Until', undefined, { type: 'date' })}
          </div>
          {field('purpose', 'What for', 'It is kept with the record and stands in every list.')}
          {field('text', 'Own words of welcome', undefined, { as: 'textarea', rows: 2 })}
          <details>
            <summary>{session.role === 'member' ? 'Language, and where they land' : 'Sponsor, language, where they land, licence'}</summary>
            {session.role !== 'member' && (
              <div className="plain-combo mb-2">
                <Combo
                  label="Sponsor"
                  kind="person"
                  placeholder="whoever invites"
                  value={f.sponsor}
                  onChange={(sponsor) => setF({ ...f, sponsor })}
                />
              </div>
            )}
            <div className="form-row">
              <Form.Group controlId="i-language">
                <Form.Label>Language</Form.Label>
                <Form.Select size="sm" value={f.language} onChange={(e) => setF({ ...f, language: e.target.value })}>
                  <option value="">as they read, else English</option>
                  <option value="en">English</option>
                  <option value="pt">Português</option>
                </Form.Select>
              </Form.Group>
              {field('location', 'Location')}
              {session.role !== 'member' && (
                <Form.Group controlId="i-licence">
                  <Form.Label>Licence for reports</Form.Label>
                  <Form.Select size="sm" value={f.licence} onChange={(e) => setF({ ...f, licence: e.target.value })}>
                    <option value="">none</option>
                    <option value="ours">ours</option>
                    <option value="theirs">theirs</option>
                  </Form.Select>
                </Form.Group>
              )}
            </div>
            {field('landing', 'Where they go once they have accepted')}
          </details>
          {weigh.error && <Wrong error={weigh.error} />}
          {send.error && <Wrong error={send.error} />}
          <div className="invite-do">
            <Button type="submit" variant={ahead ? 'outline-primary' : 'primary'} disabled={weigh.isPending}>
              {weigh.isPending ? 'Checking' : 'Preview'}
            </Button>
            <Button disabled={!ahead || yes === 0 || !f.purpose.trim() || send.isPending} onClick={() => send.mutate()}>
              {yes > 0 ? `Send to ${yes}` : 'Send'}
            </Button>
            {ahead && !f.purpose.trim() && <span className="quiet">Say what for, and it can be sent.</span>}
          </div>
        </Form>
        <div className="invite-weighed" aria-live="polite">
          {sent && <Outcome x={sent} sent />}
          {!sent && ahead && (
            <Weighed x={ahead} choose={(n) => setF({ ...f, into: n.into, role: n.role, until: n.until ? dayFromNow(30) : f.until })} />
          )}
          {!sent && !ahead && <p className="empty">Choose “Preview” to see here what the invitation would open.</p>}
        </div>
      </div>
    </Page>
  )
}

function Outcome({ x, sent }: { x: Invited; sent?: boolean }) {
  return (
    <section aria-labelledby="h-outcome">
      <h2 id="h-outcome">{sent ? 'Sent' : 'Address by address'}</h2>
      {sent && (
        <p>
          {x.counts.invited ?? 0} invited, {x.counts.given ?? 0} given more,{' '}
          {x.lines.length - (x.counts.invited ?? 0) - (x.counts.given ?? 0)} not. The mail is on its way.{' '}
          <Link to="/guests?state=invited">Who has not accepted yet</Link>
        </p>
      )}
      <Outcomes lines={x.lines} made={sent} mail />
    </section>
  )
}

function Weighed({ x, choose }: { x: Invited; choose: (n: Invited['narrower'][number]) => void }) {
  return (
    <>
      <Outcome x={x} />
      {x.opens.map((o) => (
        <section key={o.of} aria-label={`What it opens: ${o.of}`}>
          <h2>
            It would open {o.opened} things in spaces{' '}
            <span className="quiet">
              and {o.wide} kinds of things besides, for {o.count} from {o.of}
            </span>
          </h2>
          <OpensList o={o} />
          <Line steps={o.steps} label={`What would become of ${o.who}`} />
        </section>
      ))}
      {x.mail && (
        <details className="mail-ahead">
          <summary>What they will read: {x.mail.subject}</summary>
          <pre className="letter" tabIndex={0} aria-label="Text of the mail">
            {x.mail.text}
          </pre>
        </details>
      )}
      {x.missing.map((m) => (
        <p key={m} className="gets-no">
          ▼ missing {m}
        </p>
      ))}
      {x.narrower.length > 0 && (
        <section aria-labelledby="h-narrower">
          <h2 id="h-narrower">Narrower</h2>
          <ul className="plain-list narrower">
            {x.narrower.map((n, i) => (
              <li key={i}>
                <Button size="sm" variant="outline-secondary" onClick={() => choose(n)}>
                  {n.text}
                </Button>{' '}
                <span className="quiet">opens {n.opened}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {x.residual && <p className="residual">{x.residual}</p>}
      {x.until && <p className="quiet">Given until {untilText(x.until)}.</p>}
    </>
  )
}
