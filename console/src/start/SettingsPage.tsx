import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type AllSettings, type Session, failed } from '../api'
import { Page, since, Waiting, when, Wrong } from '../parts/bits'
import { Combo } from '../parts/Combo'
import { useChange } from '../parts/change'
import { OrganisationForm } from './OrganisationForm'
const useSettings = () => useQuery({ queryKey: ['settings'], queryFn: () => call('GET /api/v1/settings') })

const numbers: { key: string; label: string; hint: string }[] = [
  {
    key: 'stance_days',
    label: 'Days that a partner’s answer counts',
    hint: 'After so many days, what a partner said it admits counts as unknown.',
  },
  { key: 'forget_days', label: 'Days until a removed guest is forgotten', hint: 'Then the record is known by a pseudonym alone.' },
  { key: 'brake', label: 'Records let go, or messages sent, in a day', hint: 'More than that wait until an administrator says so.' },
  { key: 'member_mail', label: 'Messages to outsiders of a member in a day', hint: 'Invitations and the like.' },
  {
    key: 'lapse_days',
    label: 'Days to decide on a bundle that somebody asks for',
    hint: 'Then it lapses; half-way, whoever decides is asked once more.',
  },
]

/** Everything that is set for the organisation and for the service itself. */
export function SettingsPage({ session }: { session: Session }) {
  const settings = useSettings()
  const x = settings.data
  return (
    <Page
      title="Settings"
      lead="Who the organisation is, and the numbers of the service itself. They are policy: each change is weighed and published."
    >
      {settings.error && <Wrong error={settings.error} retry={() => void settings.refetch()} />}
      {!x && !settings.error && <Waiting what="Reading the settings" />}
      {x && (
        <fieldset disabled={session.role !== 'administrator'} className="partner even settings">
          <section aria-labelledby="h-org">
            <h2 id="h-org">The organisation</h2>
            <OrganisationForm key={x.etag} x={x} />
          </section>
          <section aria-labelledby="h-signup">
            <h2 id="h-signup">Signing up by themselves</h2>
            <SignUpForm key={x.etag} x={x} />
          </section>
          <section aria-labelledby="h-service">
            <h2 id="h-service">The service</h2>
            <ServiceForm key={x.etag} x={x} />
            <TermsVersions />
          </section>
        </fieldset>
      )}
    </Page>
  )
}

/** Which terms of use there were, since when, and how many accepted which. */
function TermsVersions() {
  const found = useQuery({ queryKey: ['terms'], queryFn: () => call('GET /api/v1/settings/terms') })
  if (failed(found)) return <Wrong error={found.error} retry={() => void found.refetch()} />
  if (!found.data) return null
  return (
    <>
      <h3 id="h-terms">Terms so far</h3>
      <ul className="terms-versions" aria-labelledby="h-terms">
        {found.data.versions.map((v, i) => (
          <li key={v.from ?? ''}>
            <p>
              <b>{v.from ? `Since ${when(v.from)}` : 'At first'}</b>
              {v.who && <>, by {v.who}</>}
              {v.why && <>: {v.why}</>}
              {v.again && <span className="tag">everybody was asked again</span>}
            </p>
            <p className="quiet">
              {v.accepted === 1 ? '1 guest' : `${v.accepted} guests`} accepted {i === 0 ? 'these' : 'these last'}
              {i === 0 && v.owed > 0 && (
                <>
                  ; <Link to="/guests?needs=terms">{v.owed} still have to</Link>
                </>
              )}
              .
            </p>
            {!v.text && <p>In English those that come with the product.</p>}
            <details hidden={!v.text && !v.text_pt}>
              <summary>The words</summary>
              {v.text && <p className="terms-words">{v.text}</p>}
              {v.text_pt && (
                <p className="terms-words" lang="pt">
                  {v.text_pt}
                </p>
              )}
            </details>
          </li>
        ))}
      </ul>
    </>
  )
}

/** A text of several lines, with what it is for. */
function Words({
  id,
  label,
  rows,
  value,
  onChange,
  hint,
}: {
  id: string
  label: string
  rows: number
  value: string
  onChange: (text: string) => void
  hint?: string
}) {
  return (
    <Form.Group controlId={id} className="mb-2">
      <Form.Label>{label}</Form.Label>
      <Form.Control
        size="sm"
        as="textarea"
        rows={rows}
        value={value}
        onChange={(e) => onChange(e.target.value)}
        aria-describedby={hint && `${id}-h`}
      />
      {hint && <Form.Text id={`${id}-h`}>{hint}</Form.Text>}
    </Form.Group>
  )
}

/** What is asked of who signs up without an invitation, and who lets them in. */
function SignUpForm({ x }: { x: AllSettings }) {
  const set = x.settings as { sign_up_asks?: string[]; sign_up_asks_pt?: string[]; sign_up_by?: string }
  const was = {
    sign_up_asks: (set.sign_up_asks ?? []).join('\n'),
    sign_up_asks_pt: (set.sign_up_asks_pt ?? []).join('\n'),
    sign_up_by: set.sign_up_by ?? '',
  }
  const [f, setF] = useState(was)
  const lines = (text: string) => {
    const list = text.split('\n').map((q) => q.trim()).filter(Boolean) // prettier-ignore
    return list.length ? list : null
  }
  const next = { sign_up_asks: lines(f.sign_up_asks), sign_up_asks_pt: lines(f.sign_up_asks_pt), sign_up_by: f.sign_up_by.trim() || null }
  const changed = Object.fromEntries(
    (Object.keys(was) as (keyof typeof was)[]).filter((k) => f[k].trim() !== was[k]).map((k) => [k, next[k]]),
  )
  const save = useChange(() => call('PATCH /api/v1/settings', { body: { settings: changed }, headers: { 'If-Match': x.etag } }))
  return (
    <Form
      onSubmit={(e) => {
        e.preventDefault()
        save.mutate()
      }}
    >
      {save.error && <Wrong error={save.error} />}
      <p className="quiet">
        Whether outsiders may sign up without an invitation, the rule <Link to="/rules?q=directory.self_signup">directory.self_signup</Link>{' '}
        says. What follows counts where they may.
      </p>
      <Words
        id="set-asks"
        label="Questions that they answer"
        rows={3}
        value={f.sign_up_asks}
        onChange={(sign_up_asks) => setF({ ...f, sign_up_asks })}
        hint="One on each line, ten at most. Their answers stand on their page here."
      />
      <Words
        id="set-asks-pt"
        label="The same in Portuguese"
        rows={3}
        value={f.sign_up_asks_pt}
        onChange={(sign_up_asks_pt) => setF({ ...f, sign_up_asks_pt })}
      />
      <div className="plain-combo mb-3">
        <Combo
          label="Who lets them in"
          kind="person"
          value={f.sign_up_by}
          onChange={(sign_up_by) => setF({ ...f, sign_up_by })}
          placeholder="nobody: they come in at once"
        />
      </div>
      <Button type="submit" size="sm" disabled={save.isPending || Object.keys(changed).length === 0}>
        Save
      </Button>
    </Form>
  )
}

function ServiceForm({ x }: { x: AllSettings }) {
  const was = x.settings as Record<string, string | undefined>
  const [f, setF] = useState(was)
  const changed = Object.fromEntries(
    Object.entries(f)
      .filter(([k, v]) => (v ?? '') !== (was[k] ?? ''))
      .map(([k, v]) => [k, v === '' ? null : v]),
  )
  const save = useChange(() => call('PATCH /api/v1/settings', { body: { settings: changed }, headers: { 'If-Match': x.etag } }))
  return (
    <Form
      onSubmit={(e) => {
        e.preventDefault()
        save.mutate()
      }}
    >
      {save.error && <Wrong error={save.error} />}
      {numbers.map((n) => (
        <Form.Group key={n.key} controlId={`set-${n.key}`} className="mb-2">
          <Form.Label>{n.label}</Form.Label>
          <Form.Control
            size="sm"
            value={f[n.key] ?? ''}
            onChange={(e) => setF({ ...f, [n.key]: e.target.value })}
            aria-describedby={`set-${n.key}-h`}
          />
          <Form.Text id={`set-${n.key}-h`}>{n.hint}</Form.Text>
        </Form.Group>
      ))}
      <Form.Group controlId="set-sightings" className="mb-2">
        <Form.Label>Are we told when guests were last seen?</Form.Label>
        <Form.Select
          size="sm"
          value={f.sightings ?? 'told'}
          onChange={(e) => setF({ ...f, sightings: e.target.value })}
          aria-describedby="set-sightings-h"
        >
          <option value="told">yes: idle guests are let go</option>
          <option value="none">no: nobody counts as idle</option>
        </Form.Select>
        <Form.Text id="set-sightings-h">By guests’ own sign-in here, or by a system.</Form.Text>
      </Form.Group>
      <Form.Group controlId="set-factor" className="mb-2">
        <Form.Label>Who has to give a one-time code at signing in</Form.Label>
        <Form.Select
          size="sm"
          value={f.second_factor ?? 'nobody'}
          onChange={(e) => setF({ ...f, second_factor: e.target.value })}
          aria-describedby="set-factor-h"
        >
          <option value="nobody">whoever wants to</option>
          <option value="administrators">administrators</option>
          <option value="keepers">administrators and keepers</option>
          <option value="all">everybody of ours</option>
        </Form.Select>
        <Form.Text id="set-factor-h">Whoever has none yet sets it up first at their next page; nobody is locked out.</Form.Text>
      </Form.Group>
      <Words
        id="set-terms"
        label="Terms of use that guests accept"
        rows={4}
        value={f.terms ?? ''}
        onChange={(terms) => setF({ ...f, terms })}
        hint="Empty: those that come with the product."
      />
      <Words
        id="set-terms-pt"
        label="The same in Portuguese"
        rows={3}
        value={f.terms_pt ?? ''}
        onChange={(terms_pt) => setF({ ...f, terms_pt })}
      />
      <Form.Check
        id="set-again"
        className="mb-3"
        label={`Everybody accepts them again from now on${was.terms_since ? `; last asked ${since(was.terms_since)}` : ''}`}
        checked={f.terms_since !== was.terms_since}
        onChange={(e) => setF({ ...f, terms_since: e.target.checked ? new Date().toISOString().replace(/\.\d+Z$/, 'Z') : was.terms_since })}
      />
      <Button type="submit" size="sm" disabled={save.isPending || Object.keys(changed).length === 0}>
        Save
      </Button>
    </Form>
  )
}
