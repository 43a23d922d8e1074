import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState, type FormEvent, type ReactNode } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Finding } from '../api'
import { until as last, when, Wrong } from '../parts/bits'
import { placeOf } from '../parts/place'

function links(about: string[]): ReactNode {
  return about.map((a) => {
    const at = placeOf(a)
    return at && !/\.(in|out)$/.test(a) ? (
      <Link key={a} to={at.to}>
        {a}
      </Link>
    ) : (
      <code key={a}>{a}</code>
    )
  })
}

/** Says that findings are of a while ago, and are being looked at. */
export function Behind({ asOf }: { asOf: string }) {
  return (
    <p className="quiet" role="status">
      As of {when(asOf)}. Something changed since; it is being looked at.
    </p>
  )
}

/** How often, in milliseconds, a page asks again whose findings are behind. */
export const again = (behind?: unknown) => (behind ? 4000 : false)

/** What was noticed about one thing, on its page; nothing where nothing was. */
export function Noticed({ findings, asOf }: { findings: Finding[]; asOf?: string }) {
  if (findings.length === 0 && !asOf) return null
  return (
    <section aria-labelledby="h-found">
      <h2 id="h-found">Noticed</h2>
      {asOf && <Behind asOf={asOf} />}
      <FindingList findings={findings} />
    </section>
  )
}

const singular: Record<string, string> = { parties: 'party', people: 'person', grants: 'grant', links: 'link', values: 'value' }

export function FindingList({ findings, decide, titled }: { findings: Finding[]; decide?: string; titled?: boolean }) {
  return (
    <ul className="findings">
      {findings.map((f) => (
        <One key={f.id} f={f} decide={decide} titled={titled} />
      ))}
    </ul>
  )
}

function One({ f, decide, titled = true }: { f: Finding; decide?: string; titled?: boolean }) {
  const client = useQueryClient()
  const [open, setOpen] = useState(false)
  const [reason, setReason] = useState('')
  const [until, setUntil] = useState('+90d')
  const done = () => client.invalidateQueries({ queryKey: ['findings'] })
  const accept = useMutation({
    mutationFn: () => call('POST /api/v1/findings/acceptance', { body: { id: f.id, reason, until } }),
    onSuccess: () => {
      setOpen(false)
      void done()
    },
  })
  const reopen = useMutation({
    mutationFn: () => call('DELETE /api/v1/findings/acceptance', { query: { id: f.id } }),
    onSuccess: () => void done(),
  })
  const mend = useMutation({
    mutationFn: () => {
      const [kind, ...id] = f.about[0].split(':')
      return call('POST /api/v1/records/mend', { body: { kind, id: id.join(':') } })
    },
    onSuccess: () => void done(),
  })
  const numbers = Object.entries(f.numbers).filter(([, n]) => n > 0)
  const submit = (e: FormEvent) => {
    e.preventDefault()
    accept.mutate()
  }
  return (
    <li data-finding={f.id}>
      <p className="finding-cause">{f.cause}</p>
      <p className="finding-about">
        {links(f.about)}
        {numbers.map(([what, n]) => (
          <span key={what} className="tag">
            {n} {n === 1 ? (singular[what] ?? what) : what}
          </span>
        ))}
      </p>
      {titled && <p className="quiet">{f.do}</p>}
      {f.gone && (
        <p className="quiet">
          From {last(f.since ?? '')} to {last(f.gone)}
        </p>
      )}
      {!f.gone && f.since && <p className="quiet">Since {last(f.since)}</p>}
      {f.accepted && (
        <p className="quiet">
          Accepted by {f.accepted.by} until {last(f.accepted.until)}: {f.accepted.reason}
        </p>
      )}
      {(accept.error ?? reopen.error ?? mend.error) && <Wrong error={accept.error ?? reopen.error ?? mend.error} />}
      {decide === 'administrator' && f.kind === 'record_unread' && (
        <Button size="sm" variant="outline-primary" className="me-2" disabled={mend.isPending} onClick={() => mend.mutate()}>
          Mend it
        </Button>
      )}
      {decide && f.accepted && (
        <Button size="sm" variant="link" onClick={() => reopen.mutate()}>
          Open again
        </Button>
      )}
      {decide && !f.accepted && !open && (
        <Button size="sm" variant="link" onClick={() => setOpen(true)} aria-label={`Accept: ${f.cause}`}>
          Accept
        </Button>
      )}
      {decide && open && (
        <Form className="inline-form" onSubmit={submit} aria-label={`Accept ${f.id}`}>
          <Form.Control
            size="sm"
            aria-label="Why it may stay"
            placeholder="why it may stay"
            required
            autoFocus
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <Form.Control
            size="sm"
            aria-label="Until"
            placeholder="+90d or a date"
            required
            className="short"
            value={until}
            onChange={(e) => setUntil(e.target.value)}
          />
          <Button size="sm" type="submit" disabled={accept.isPending}>
            Accept
          </Button>
          <Button size="sm" variant="link" onClick={() => setOpen(false)}>
            Cancel
          </Button>
        </Form>
      )}
    </li>
  )
}
