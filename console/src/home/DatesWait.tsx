import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type DatesGoing } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { day, when, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

/** One and more of a kind of step. */
const stepWords: Record<string, [string, string]> = {
  grant_ends: ['grant ends', 'grants end'],
  review_due: ['grant to be confirmed', 'grants to be confirmed'],
  invitation_lapses: ['invitation lapses', 'invitations lapse'],
  suspended: ['suspended', 'suspended'],
  removed: ['removed', 'removed'],
}

const kinds = (of: Record<string, number>) =>
  Object.entries(of)
    .map(([k, n]) => `${n} ${stepWords[k]?.[n === 1 ? 0 : 1] ?? k}`)
    .join(', ') || 'nothing'

/** What dates set going: at once, by partner, and on the days that follow. */
export function Going({ g }: { g: DatesGoing }) {
  return (
    <dl className="going">
      <dt>At once</dt>
      <dd>{kinds(g.at_once)}</dd>
      {Object.keys(g.partners).length > 0 && (
        <>
          <dt>Of that, by partner</dt>
          <dd>{kinds(g.partners)}</dd>
        </>
      )}
      {g.days.slice(0, 8).map((d) => (
        <div key={d.day} className="going-day">
          <dt>{day(d.day)}</dt>
          <dd>{kinds(d.kinds)}</dd>
        </div>
      ))}
      {g.days.length > 8 && <dd className="quiet going-more">and {g.days.length - 8} more days</dd>}
      <dt>Messages in the first days</dt>
      <dd>{g.mail}</dd>
    </dl>
  )
}

/** Says that dates wait or that something is held, and lets an administrator release them. */
export function DatesWait({ admin }: { admin: boolean }) {
  const refresh = useRefresh()
  const dates = useQuery({ queryKey: ['dates'], queryFn: () => call('GET /api/v1/dates') })
  const [open, setOpen] = useState(false)
  const [why, setWhy] = useState('')
  const lift = useMutation({
    mutationFn: () => call('POST /api/v1/dates/lift', { body: { why: why.trim() } }),
    onSuccess: () => refresh(),
  })
  const d = dates.data
  if (!d) return null
  const held = d.held.records + d.held.mail > 0
  if (d.waiting.records === 0 && !d.mail_waits && !held) return null
  return (
    <section className="wish dates-wait" aria-labelledby="h-dates">
      <h2 id="h-dates">{held ? 'Held, because it is much for one day' : 'Dates wait'}</h2>
      {(d.waiting.records > 0 || d.mail_waits) && (
        <p>
          {d.waiting.records > 0
            ? `The dates of ${d.waiting.records} ${d.waiting.records === 1 ? 'record that was' : 'records that were'} taken over do not count yet: nobody is suspended but by an end of their own, and nobody is written to about them.`
            : 'Mail about dates is not sent yet.'}{' '}
          {admin && (
            <Button size="sm" variant="outline-primary" onClick={() => setOpen(true)}>
              Let them count
            </Button>
          )}
        </p>
      )}
      {held && (
        <>
          {lift.error && <Wrong error={lift.error} />}
          <p>
            {d.held.records > 0 && `${d.held.records} ${d.held.records === 1 ? 'record' : 'records'} would be suspended or removed. `}
            {d.held.mail > 0 && `${d.held.mail} ${d.held.mail === 1 ? 'message' : 'messages'} would go out.`}
          </p>
          {admin && (
            <Form
              className="inline-form"
              onSubmit={(e) => {
                e.preventDefault()
                lift.mutate()
              }}
            >
              <Form.Control
                size="sm"
                aria-label="Why it may go"
                placeholder="why it may go"
                value={why}
                onChange={(e) => setWhy(e.target.value)}
              />
              <Button size="sm" type="submit" variant="outline-danger" disabled={why.trim() === '' || lift.isPending}>
                Let it go
              </Button>
            </Form>
          )}
        </>
      )}
      {open && <Release waiting={d.waiting} close={() => setOpen(false)} />}
    </section>
  )
}

function Release({ waiting, close }: { waiting: DatesGoing; close: () => void }) {
  const refresh = useRefresh()
  const [of, setOf] = useState('')
  const [from, setFrom] = useState('')
  const [steps, setSteps] = useState(true)
  const [mail, setMail] = useState(true)
  const [sure, setSure] = useState('') // of which brake
  const [why, setWhy] = useState('')
  // What was seen and confirmed was of what was said before.
  const said = (set: (v: string) => void, v: string) => {
    set(v)
    setSure('')
  }
  const body = { ...(of.trim() ? { for: of.trim() } : {}), ...(from.trim() ? { from: from.trim() } : {}), steps, mail }
  const preview = useQuery({
    queryKey: ['release', of, from, steps, mail],
    queryFn: () => call('POST /api/v1/dates/release', { query: { preview: true }, body }),
    enabled: steps || mail,
    retry: false,
    gcTime: 0,
  })
  const release = useMutation({
    mutationFn: () => call('POST /api/v1/dates/release', { body: { ...body, confirm: sure !== '', why: why.trim() } }),
    onSuccess: () => {
      void refresh()
      close()
    },
  })
  const x = preview.data
  return (
    <AskDialog
      title="Let dates count"
      wide
      leave="Leave them waiting"
      submit="Let them count"
      disabled={!x || why.trim() === '' || release.isPending || (x.brake ?? '') !== sure}
      error={release.error ?? preview.error}
      close={close}
      onSubmit={() => release.mutate()}
    >
      <div className="release-form">
        <Form.Group controlId="release-for">
          <Form.Label>For whom</Form.Label>
          <Form.Control
            size="sm"
            list="release-parts"
            defaultValue=""
            placeholder="everybody, or partner:ID, step:CAUSE, an address"
            onBlur={(e) => said(setOf, e.target.value)}
          />
          <datalist id="release-parts">
            {Object.keys(waiting.partners)
              .filter((p) => p !== 'none')
              .map((p) => (
                <option key={p} value={`partner:${p}`} />
              ))}
          </datalist>
        </Form.Group>
        <Form.Group controlId="release-from">
          <Form.Label>From</Form.Label>
          <Form.Control
            size="sm"
            defaultValue=""
            placeholder="after the days that guests are told ahead"
            onBlur={(e) => said(setFrom, e.target.value)}
          />
        </Form.Group>
        <Form.Check
          id="release-steps"
          label="What is due is carried out"
          checked={steps}
          onChange={(e) => {
            setSteps(e.target.checked)
            setSure('')
          }}
        />
        <Form.Check
          id="release-mail"
          label="Mail about it is sent"
          checked={mail}
          onChange={(e) => {
            setMail(e.target.checked)
            setSure('')
          }}
        />
      </div>
      {x && (
        <>
          <p className="mt-2">They would count from {when(x.from)}.</p>
          {x.going && <Going g={x.going} />}
          {x.brake && (
            <Form.Check
              id="release-sure"
              label={`I have seen that ${x.brake}`}
              checked={sure === x.brake}
              onChange={(e) => setSure(e.target.checked ? x.brake! : '')}
            />
          )}
        </>
      )}
      <Form.Group controlId="release-why" className="mt-2">
        <Form.Label>Why</Form.Label>
        <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} required maxLength={1000} />
      </Form.Group>
    </AskDialog>
  )
}
