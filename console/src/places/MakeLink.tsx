import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type LinkView, type MadeLink, type Session } from '../api'
import { OpensList, Outcomes } from '../guests/Outcomes'
import { WeighedText } from '../drafts/Weighed'
import { AskDialog } from '../parts/AskDialog'
import { Combo } from '../parts/Combo'
import { Reasons, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

export function EndLink({ link, close }: { link: LinkView; close: () => void }) {
  const refresh = useRefresh()
  const [why, setWhy] = useState('')
  const weighed = useQuery({
    queryKey: ['weighed', 'link', link.id],
    queryFn: () => call('POST /api/v1/links/{id}/end', { path: { id: link.id }, query: { preview: true }, body: {} }),
    gcTime: 0,
  })
  const end = useMutation({
    mutationFn: () => call('POST /api/v1/links/{id}/end', { path: { id: link.id }, body: why ? { why } : {} }),
    onSuccess: () => {
      void refresh()
      close()
    },
  })
  return (
    <AskDialog
      title={`End ${link.id}`}
      leave="Leave it"
      submit="End it"
      danger
      disabled={end.isPending}
      error={end.error ?? weighed.error}
      close={close}
      onSubmit={() => end.mutate()}
    >
      <p>
        {link.bearer ? 'Whoever holds it' : (link.for ?? []).join(', ')} can no longer open {link.item_name || link.item} with it. An ended
        link is not brought back; another one can be made.
        {!link.works && ' It does not work now either.'}
      </p>
      {!weighed.error && <WeighedText w={weighed.data} />}
      <Form.Group controlId="end-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

type Right = 'view' | 'contribute' | 'manage'

export function MakeLink({ session, item }: { session: Session; item: string }) {
  const refresh = useRefresh()
  const [f, setF] = useState({ item, bearer: false, for: '', right: 'view' as Right, until: '', download: true, password: false, by: '' })
  const [weighed, setWeighed] = useState<{ key: string; x: MadeLink }>()
  const [made, setMade] = useState<MadeLink>()
  const body = () => ({
    item: f.item,
    bearer: f.bearer,
    right: f.right,
    download: f.download,
    password: f.password,
    ...(f.bearer ? {} : { for: f.for }),
    ...(f.until ? { until: f.until } : {}),
    ...(f.by ? { by: f.by } : {}),
  })
  const key = JSON.stringify(body())
  const weigh = useMutation({
    mutationFn: () => call('POST /api/v1/links', { query: { preview: true }, body: body() }),
    onSuccess: (x) => setWeighed({ key, x }),
  })
  const make = useMutation({
    mutationFn: () => call('POST /api/v1/links', { body: body(), headers: { 'Idempotency-Key': crypto.randomUUID() } }),
    onSuccess: (x) => {
      setMade(x)
      setWeighed(undefined)
      void refresh()
    },
  })
  const ahead = weighed?.key === key ? weighed.x : undefined
  return (
    <section className="invite make-link" aria-label="Make a link">
      <Form
        className="invite-form"
        onSubmit={(e) => {
          e.preventDefault()
          setMade(undefined)
          weigh.mutate()
        }}
      >
        <div className="plain-combo mb-2">
          <Combo
            label="To"
            kind="resource"
            action="files.open"
            placeholder="a file or a folder, as file:press-kit"
            value={f.item}
            onChange={(v) => setF({ ...f, item: v })}
          />
        </div>
        <fieldset className="mb-2">
          <legend>For</legend>
          <Form.Check
            inline
            type="radio"
            id="l-named"
            name="l-who"
            label="those it names"
            checked={!f.bearer}
            onChange={() => setF({ ...f, bearer: false })}
          />
          <Form.Check
            inline
            type="radio"
            id="l-bearer"
            name="l-who"
            label="whoever holds it"
            checked={f.bearer}
            onChange={() => setF({ ...f, bearer: true, right: f.right === 'manage' ? 'contribute' : f.right })}
          />
        </fieldset>
        {!f.bearer && (
          <Form.Group controlId="l-for" className="mb-2">
            <Form.Label>Whom</Form.Label>
            <Form.Control as="textarea" rows={2} size="sm" value={f.for} onChange={(e) => setF({ ...f, for: e.target.value })} />
            <Form.Text>One a line or between commas.</Form.Text>
          </Form.Group>
        )}
        <div className="form-row">
          <Form.Group controlId="l-right">
            <Form.Label>Right</Form.Label>
            <Form.Select size="sm" value={f.right} onChange={(e) => setF({ ...f, right: e.target.value as Right })}>
              <option>view</option>
              <option>contribute</option>
              {!f.bearer && <option>manage</option>}
            </Form.Select>
          </Form.Group>
          <Form.Group controlId="l-until">
            <Form.Label>Until</Form.Label>
            <Form.Control size="sm" type="date" value={f.until} onChange={(e) => setF({ ...f, until: e.target.value })} />
          </Form.Group>
          {session.role !== 'member' && (
            <div className="plain-combo">
              <Combo label="Whose" kind="person" placeholder="an owner of the space" value={f.by} onChange={(by) => setF({ ...f, by })} />
            </div>
          )}
        </div>
        <div className="mb-2">
          <Form.Check
            inline
            id="l-download"
            label="lets download"
            checked={f.download}
            onChange={(e) => setF({ ...f, download: e.target.checked })}
          />
          <Form.Check
            inline
            id="l-password"
            label="asks a password"
            checked={f.password}
            onChange={(e) => setF({ ...f, password: e.target.checked })}
          />
        </div>
        {weigh.error && <Wrong error={weigh.error} />}
        {make.error && <Wrong error={make.error} />}
        <div className="invite-do">
          <Button
            type="submit"
            variant={ahead ? 'outline-primary' : 'primary'}
            disabled={weigh.isPending || !f.item || (!f.bearer && !f.for.trim())}
          >
            {weigh.isPending ? 'Checking' : 'Preview'}
          </Button>
          <Button disabled={!ahead?.made || make.isPending} onClick={() => make.mutate()}>
            Make it
          </Button>
        </div>
      </Form>
      <div className="invite-weighed" aria-live="polite">
        {made && <Told x={made} made />}
        {!made && ahead && <Told x={ahead} />}
        {!made && !ahead && <p className="empty">Here you will see what the link would open, or everything that blocks it.</p>}
      </div>
    </section>
  )
}

function Told({ x, made }: { x: MadeLink; made?: boolean }) {
  return (
    <>
      <h2>{!x.made ? 'Nobody could use it' : made ? 'Made' : 'It would work'}</h2>
      {x.made && (
        <p>
          {x.link.text}
          {made && (
            <>
              {' '}
              <Link to={`/links?q=${x.link.id}`}>{x.link.id}</Link>
            </>
          )}
        </p>
      )}
      {x.refused.length > 0 && (
        <ul className="outcomes">
          <li className="is-no">
            <span className="outcome-what">▼ no</span>
            <span>
              <Reasons causes={x.refused} />
              {x.refused.map(
                (c) =>
                  c.next && (
                    <span className="sub" key={c.code}>
                      Next: {c.next}
                    </span>
                  ),
              )}
            </span>
          </li>
        </ul>
      )}
      <Outcomes lines={x.lines} made={made} />
      {x.made &&
        x.opens.map((o) => (
          <section key={o.of} aria-label={`What it opens: ${o.of}`}>
            <h3>
              It would open {o.opened} things{' '}
              <span className="quiet">{o.of === 'bearer' ? 'to whoever holds it' : `to ${o.count} from ${o.of}`}</span>
            </h3>
            <OpensList o={o} />
          </section>
        ))}
      {x.made && x.residual && <p className="residual">{x.residual}</p>}
    </>
  )
}
