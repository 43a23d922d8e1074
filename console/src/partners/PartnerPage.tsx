import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { useParams } from 'react-router'
import { call, query, services, text, type JournalEntry, type Partner, type Values } from '../api'
import { Page, Waiting, when, Wrong } from '../parts/bits'
import { ValueTable } from '../places/ValueTable'
import { half, mayKeep, Standing } from './PartnersPage'

export function PartnerPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const client = useQueryClient()
  const partner = useQuery({ queryKey: ['partner', id], queryFn: () => call<Partner>('GET', `/api/v1/partners/${encodeURIComponent(id)}`) })
  const values = useQuery({ queryKey: ['values', `partner:${id}`], queryFn: () => call<Values>('GET', `/api/v1/values/${encodeURIComponent(`partner:${id}`)}`) })
  const [asking, setAsking] = useState<string>()
  const done = (p: Partner) => {
    client.setQueryData(['partner', id], p)
    void client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' && q.queryKey[0] !== 'partner' })
  }
  const open = useMutation({
    mutationFn: ({ key, value }: { key: string; value: boolean | undefined }) => {
      const p = partner.data!
      const opened = { ...p.opened }
      if (value === undefined) delete opened[key]
      else opened[key] = value
      return call<Partner>('PUT', `/api/v1/partners/${encodeURIComponent(id)}`, { ...change(p), opened }, { 'If-Match': p.etag })
    },
    onSuccess: done,
    onError: () => void partner.refetch(),
  })
  const record = useMutation({
    mutationFn: ({ key, says }: { key: string; says: string }) => call<Partner>('PUT', `/api/v1/partners/${encodeURIComponent(id)}/stances/${key}`, { says, why: 'recorded by hand' }),
    onSuccess: done,
    onError: () => void partner.refetch(),
  })
  if (partner.error) return <Page title="Partner"><Wrong error={partner.error} retry={() => void partner.refetch()} /></Page>
  const p = partner.data
  if (!p) return <Waiting what="Reading the partner" />
  const keep = mayKeep(role)
  return (
    <Page
      title={p.name}
      lead={
        <>
          <Standing s={p.standing} /> {p.standing_since && <>since {when(p.standing_since)}</>} · {p.counts.guests} guests, {p.counts.grants} grants in {p.counts.spaces} spaces
        </>
      }
      tools={
        keep && (
          <>
            {p.standing === 'active' ? (
              <Button size="sm" variant="outline-danger" onClick={() => setAsking('suspended')}>
                Suspend
              </Button>
            ) : (
              <Button size="sm" onClick={() => setAsking('active')}>
                Bring back
              </Button>
            )}
            {p.standing !== 'ended' && (
              <Button size="sm" variant="outline-secondary" onClick={() => setAsking('ended')}>
                End
              </Button>
            )}
          </>
        )
      }
    >
      {(open.error ?? record.error) && <Wrong error={open.error ?? record.error} />}
      <div className="partner">
        <div>
          <section aria-labelledby="h-open">
            <h2 id="h-open">What it is opened for</h2>
            <table className="table openings">
              <thead>
                <tr>
                  <th scope="col">Service</th>
                  <th scope="col">In: theirs come to us</th>
                  <th scope="col">Out: ours go to them</th>
                </tr>
              </thead>
              <tbody>
                {services.map((s) => (
                  <tr key={s}>
                    <th scope="row">{s}</th>
                    {['in', 'out'].map((d) => (
                      <td key={d}>
                        <Opening p={p} k={`${s}.${d}`} keep={keep && !open.isPending} set={(value) => open.mutate({ key: `${s}.${d}`, value })} record={(says) => record.mutate({ key: `${s}.${d}`, says })} />
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            <p className="quiet">Above stands what we open, below what their own side says, as somebody recorded it. Under the level listed, only yes admits; no refuses under any level.</p>
          </section>
          <section aria-labelledby="h-rules">
            <h2 id="h-rules">Rules for its people</h2>
            {values.error && <Wrong error={values.error} />}
            {values.data && <ValueTable values={values.data} edit={keep} />}
          </section>
        </div>
        <div>
          <Domains p={p} keep={keep} done={done} />
          <section aria-labelledby="h-about">
            <h2 id="h-about">About</h2>
            <dl className="facts">
              <dt>Id</dt>
              <dd>{p.id}</dd>
              {p.contact && (
                <>
                  <dt>Their administrator</dt>
                  <dd>{p.contact}</dd>
                </>
              )}
              {p.owner && (
                <>
                  <dt>Kept by</dt>
                  <dd>{p.owner}</dd>
                </>
              )}
              {p.note && (
                <>
                  <dt>Note</dt>
                  <dd>{p.note}</dd>
                </>
              )}
            </dl>
          </section>
          <Letter id={p.id} />
          <History id={p.id} />
        </div>
      </div>
      {asking && <AskStanding p={p} standing={asking} close={() => setAsking(undefined)} done={done} />}
    </Page>
  )
}

function change(p: Partner) {
  return { id: p.id, name: p.name, domains: p.domains, standing: p.standing, opened: p.opened, rules: p.rules, ...(p.standing_since ? { standing_since: p.standing_since } : {}), ...(p.contact ? { contact: p.contact } : {}), ...(p.owner ? { owner: p.owner } : {}), ...(p.note ? { note: p.note } : {}) }
}

/** A letter to their administrator about all that waits for them, to be copied. */
function Letter({ id }: { id: string }) {
  const [open, setOpen] = useState(false)
  const letter = useQuery({ queryKey: ['letter', id], queryFn: () => text(`/api/v1/partners/${encodeURIComponent(id)}/letter?form=text`), enabled: open })
  return (
    <section aria-labelledby="h-letter">
      <h2 id="h-letter">Their administrator</h2>
      {!open && (
        <Button size="sm" variant="outline-primary" onClick={() => setOpen(true)}>
          Write what they need to admit
        </Button>
      )}
      {letter.error && <Wrong error={letter.error} />}
      {letter.data && (
        <>
          <pre className="letter" tabIndex={0} aria-label="Letter to their administrator">
            {letter.data}
          </pre>
          <Button size="sm" variant="outline-primary" onClick={() => void navigator.clipboard.writeText(letter.data)}>
            Copy
          </Button>
        </>
      )}
    </section>
  )
}

function Opening({ p, k, keep, set, record }: { p: Partner; k: string; keep: boolean; set: (v: boolean | undefined) => void; record: (says: string) => void }) {
  const h = half(p, k)
  const stance = p.stance.find((s) => s.key === k)
  return (
    <div className="opening">
      <Form.Select size="sm" aria-label={`${k}, ours`} value={h.ours} disabled={!keep} className={`ours-${h.ours}`} onChange={(e) => set(e.target.value === 'unset' ? undefined : e.target.value === 'yes')}>
        <option value="unset">· not opened</option>
        <option value="yes">▲ yes</option>
        <option value="no">▼ no</option>
      </Form.Select>
      <Form.Select size="sm" aria-label={`${k}, theirs`} value={h.theirs} disabled={!keep} className={`theirs theirs-${h.theirs}`} onChange={(e) => record(e.target.value)}>
        <option value="unknown">· not known</option>
        <option value="admits">△ they admit</option>
        <option value="refuses">▽ they refuse</option>
      </Form.Select>
      {stance?.features && <span className="sub">{stance.features.join(', ')}</span>}
    </div>
  )
}

function Domains({ p, keep, done }: { p: Partner; keep: boolean; done: (p: Partner) => void }) {
  const [name, setName] = useState('')
  const [sub, setSub] = useState(false)
  const [alike, setAlike] = useState(false)
  const add = useMutation({
    mutationFn: () => call<Partner>('POST', `/api/v1/partners/${p.id}/domains`, { domain: name, subdomains: sub, look_alike: alike }),
    onSuccess: (x) => {
      setName('')
      setSub(false)
      setAlike(false)
      done(x)
    },
  })
  const remove = useMutation({ mutationFn: (d: string) => call<Partner>('DELETE', `/api/v1/partners/${p.id}/domains/${encodeURIComponent(d)}`), onSuccess: done })
  const looksAlike = add.error instanceof Error && add.error.message.includes('looks like')
  const submit = (e: FormEvent) => {
    e.preventDefault()
    add.mutate()
  }
  return (
    <section aria-labelledby="h-domains">
      <h2 id="h-domains">Domains</h2>
      {(add.error ?? remove.error) && <Wrong error={add.error ?? remove.error} />}
      <ul className="domains">
        {p.domains.map((d) => (
          <li key={d.name}>
            <span>
              {d.name}
              {d.subdomains ? ' and below' : ''}
            </span>
            {keep && (
              <Button size="sm" variant="link" onClick={() => remove.mutate(d.name)} aria-label={`Take away ${d.name} from ${p.name}`}>
                Take away
              </Button>
            )}
          </li>
        ))}
        {p.domains.length === 0 && <li>None: nobody is known as theirs.</li>}
      </ul>
      {keep && (
        <Form className="inline-form" onSubmit={submit}>
          <Form.Control size="sm" aria-label="New domain" placeholder="domain.example" required value={name} onChange={(e) => setName(e.target.value)} />
          <Form.Check id="d-sub" label="and below" checked={sub} onChange={(e) => setSub(e.target.checked)} />
          {looksAlike && <Form.Check id="d-alike" label="it is meant all the same" checked={alike} onChange={(e) => setAlike(e.target.checked)} />}
          <Button size="sm" type="submit" variant="outline-primary" disabled={add.isPending}>
            Add
          </Button>
        </Form>
      )}
    </section>
  )
}

function History({ id }: { id: string }) {
  const { data } = useQuery({ queryKey: ['journal', 'partner', id], queryFn: () => call<{ entries: JournalEntry[] }>('GET', `/api/v1/journal${query({ kind: 'partner', id, limit: '5' })}`) })
  if (!data || data.entries.length === 0) return null
  return (
    <section aria-labelledby="h-history">
      <h2 id="h-history">Last changes</h2>
      <ul className="history">
        {data.entries.map((e) => (
          <li key={e.seq}>
            <time dateTime={e.at}>{when(e.at)}</time> {e.who}
            {e.why ? `: ${e.why}` : ''}
          </li>
        ))}
      </ul>
    </section>
  )
}

function AskStanding({ p, standing, close, done }: { p: Partner; standing: string; close: () => void; done: (p: Partner) => void }) {
  const [why, setWhy] = useState('')
  const set = useMutation({
    mutationFn: () => call<Partner>('POST', `/api/v1/partners/${p.id}/standing`, { standing, ...(why ? { why } : {}) }, { 'If-Match': p.etag }),
    onSuccess: (x) => {
      done(x)
      close()
    },
  })
  const verb = { active: 'Bring back', suspended: 'Suspend', ended: 'End' }[standing] ?? standing
  const what = {
    active: 'What was open before is open again.',
    suspended: 'Every decision about its people refuses; no record changes, and bringing it back restores exactly what was there. Links that anybody may hold still work.',
    ended: 'It decides like suspended; its domains stay taken.',
  }[standing]
  return (
    <Modal show onHide={close} aria-labelledby="standing-title">
      <Form
        onSubmit={(e) => {
          e.preventDefault()
          set.mutate()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title id="standing-title" as="h2">
            {verb} {p.name}?
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {set.error && <Wrong error={set.error} />}
          <p>
            This concerns <b>{p.counts.guests} guests</b> with <b>{p.counts.grants} grants</b> in <b>{p.counts.spaces} spaces</b>. {what}
          </p>
          <Form.Group controlId="s-why">
            <Form.Label>Why</Form.Label>
            <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} autoFocus />
          </Form.Group>
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" variant={standing === 'active' ? 'primary' : 'danger'} disabled={set.isPending}>
            {verb}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
