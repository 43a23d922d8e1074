import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState, type FormEvent, type ReactNode } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Finding } from '../api'
import { until as last, Wrong } from '../parts/bits'

/** Where a thing that a finding is about can be looked at. */
function place(about: string): string | undefined {
  const [kind, id] = about.split(':')
  if (!id) return /^[a-z]+\.[a-z_]+$/.test(about) && !about.includes('@') ? `/rules?rule=${about}` : undefined
  if (kind === 'space') return `/spaces/${id}`
  if (kind === 'partner') return `/partners/${id}`
  if (kind === 'person' || kind === 'mailbox') return `/people/${id}`
  if (kind === 'exception') return `/exceptions#${id}`
  return undefined
}

function links(about: string[]): ReactNode {
  return about.map((a) => {
    const to = place(a)
    return to && !/\.(in|out)$/.test(a) ? (
      <Link key={a} to={to}>
        {a}
      </Link>
    ) : (
      <code key={a}>{a}</code>
    )
  })
}

/** What was noticed about one thing, on its page; nothing where nothing was. */
export function Noticed({ findings }: { findings: Finding[] }) {
  if (findings.length === 0) return null
  return (
    <section aria-labelledby="h-found">
      <h2 id="h-found">Noticed</h2>
      <FindingList findings={findings} />
    </section>
  )
}

const singular: Record<string, string> = { parties: 'party', people: 'person', grants: 'grant', links: 'link', values: 'value' }

export function FindingList({ findings, decide, titled }: { findings: Finding[]; decide?: boolean; titled?: boolean }) {
  return (
    <ul className="findings">
      {findings.map((f) => (
        <One key={f.id} f={f} decide={decide} titled={titled} />
      ))}
    </ul>
  )
}

function One({ f, decide, titled = true }: { f: Finding; decide?: boolean; titled?: boolean }) {
  const client = useQueryClient()
  const [open, setOpen] = useState(false)
  const [reason, setReason] = useState('')
  const [until, setUntil] = useState('+90d')
  const done = () => client.invalidateQueries({ queryKey: ['findings'] })
  const accept = useMutation({
    mutationFn: () => call('POST', '/api/v1/findings/acceptance', { id: f.id, reason, until }),
    onSuccess: () => {
      setOpen(false)
      void done()
    },
  })
  const reopen = useMutation({ mutationFn: () => call('DELETE', `/api/v1/findings/acceptance?id=${encodeURIComponent(f.id)}`), onSuccess: () => void done() })
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
      {f.accepted && (
        <p className="quiet">
          Accepted by {f.accepted.by} until {last(f.accepted.until)}: {f.accepted.reason}
        </p>
      )}
      {(accept.error ?? reopen.error) && <Wrong error={accept.error ?? reopen.error} />}
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
          <Form.Control size="sm" aria-label="Why it may stay" placeholder="why it may stay" required autoFocus value={reason} onChange={(e) => setReason(e.target.value)} />
          <Form.Control size="sm" aria-label="Until" placeholder="+90d or a date" required className="short" value={until} onChange={(e) => setUntil(e.target.value)} />
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
