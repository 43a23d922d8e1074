import { useMutation } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call } from '../api'
import { Wrong } from '../parts/bits'

const marks = { opened: '▲ opened', otherwise: '◆ otherwise', open: '= open as now', closed: '▼ still closed' } as const

/** Asks what an invitation into a space would open, before anything is done. */
export function WouldForm({ space }: { space: string }) {
  const [who, setWho] = useState('')
  const [role, setRole] = useState<'view' | 'contribute' | 'manage'>('view')
  const [all, setAll] = useState(false)
  const ask = useMutation({
    mutationFn: () =>
      call('POST /api/v1/would', { body: { subject: who.trim(), invite: true, grants: [{ resource: `space:${space}`, role }] } }),
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    ask.mutate()
  }
  const lines = ask.data?.lines ?? []
  const count = (c: string) => lines.filter((l) => l.change === c).reduce((n, l) => n + l.count, 0)
  const shown = lines.filter((l) => all || l.change === 'opened' || l.change === 'otherwise')
  const services = [...new Set(shown.map((l) => l.service))]
  return (
    <section aria-labelledby="h-would">
      <h2 id="h-would">What would an invitation open?</h2>
      <Form className="inline-form" onSubmit={submit} aria-label="Ask what an invitation would open">
        <Form.Control
          size="sm"
          aria-label="Who would be invited"
          placeholder="address or *@domain"
          required
          value={who}
          onChange={(e) => setWho(e.target.value)}
        />
        <Form.Select size="sm" aria-label="Role" value={role} onChange={(e) => setRole(e.target.value as typeof role)}>
          <option>view</option>
          <option>contribute</option>
          <option>manage</option>
        </Form.Select>
        <Button size="sm" type="submit" variant="outline-primary" disabled={ask.isPending}>
          Show
        </Button>
      </Form>
      {ask.error && <Wrong error={ask.error} />}
      {ask.data && (
        <div className="would" data-testid="would">
          <p>
            <b>{count('opened')}</b> opened, <b>{count('otherwise')}</b> open otherwise than now, {count('open')} open as now,{' '}
            {count('closed')} still closed. Nothing was done.{' '}
            <Button size="sm" variant="link" onClick={() => setAll(!all)} aria-expanded={all}>
              {all ? 'Only what changes' : 'All of them'}
            </Button>
          </p>
          {services.map((s) => (
            <div key={s}>
              <h3>{s}</h3>
              <ul>
                {shown
                  .filter((l) => l.service === s)
                  .map((l) => (
                    <li key={l.action + l.resource + l.change + l.conditions.join()}>
                      <span className={`change is-${l.change}`}>{marks[l.change]}</span> <b>{l.action.split('.')[1]}</b>{' '}
                      {l.name || l.resource}
                      {l.count > 1 ? ` (${l.count})` : ''}
                      {l.to ? ` to ${l.to}` : ''}{' '}
                      <span className="quiet">{l.conditions.length ? `with ${l.conditions.join(', ').replaceAll('_', ' ')}` : ''}</span>
                      {l.change === 'closed' && <span className="quiet"> {l.text}</span>}
                    </li>
                  ))}
              </ul>
            </div>
          ))}
        </div>
      )}
    </section>
  )
}
