import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { saidOf } from '../journal/JournalPage'
import { Modal } from '../parts/Dialog'
import { Link, useNavigate, useParams } from 'react-router'
import { call, patch, query, services, type Advice, type BothHalves, type JournalEntry, type Letter, type Partner, type Rearranged, type TheirPerson, type TheirStatement, type Values } from '../api'
import { WeighedText } from '../drafts/Weighed'
import { AskDialog } from '../parts/AskDialog'
import { Page, since, until, Waiting, when, Wrong } from '../parts/bits'
import { Combo } from '../parts/Combo'
import { ValueTable } from '../places/ValueTable'
import { PartnerLetters } from './Letters'
import { ListImport } from './ListImport'
import { mayKeep, oursWord, Standing, together } from './PartnersPage'

/** A partner in the order of the work: who they are, their domains, what is open on both sides, their people, what was asked of them, and what was changed. */
export function PartnerPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const client = useQueryClient()
  const at = `/api/v1/partners/${encodeURIComponent(id)}`
  const partner = useQuery({ queryKey: ['partner', id], queryFn: () => call<Partner>('GET', at) })
  const halves = useQuery({ queryKey: ['halves', id], queryFn: () => call<{ halves: BothHalves[] }>('GET', `/api/v1/halves${query({ partner: id })}`) })
  const values = useQuery({ queryKey: ['values', `partner:${id}`], queryFn: () => call<Values>('GET', `/api/v1/values/${encodeURIComponent(`partner:${id}`)}`) })
  const [said, setSaid] = useState<{ key: string; says: string }>()
  const [undo, setUndo] = useState<string>()
  const [asking, setAsking] = useState<'active' | 'suspended' | 'ended' | 'edit' | 'merge' | 'split'>()
  const done = (p: Partner) => {
    client.setQueryData(['partner', id], p)
    void client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' && q.queryKey[0] !== 'partner' })
  }
  const open = useMutation({
    mutationFn: ({ key, value }: { key: string; value: boolean | undefined }) => {
      const p = partner.data!
      return patch<Partner>(at, { opened: { [key]: value ?? null } }, { 'If-Match': p.etag })
    },
    onSuccess: done,
    onError: () => void partner.refetch(),
  })
  const record = useMutation({
    mutationFn: ({ key, says, by, why }: { key: string; says: string; by: string; why: string }) => call<Partner>('PUT', `${at}/stances/${key}`, { says, why: why || 'recorded by hand', ...(by ? { said_by: by } : {}) }),
    onSuccess: (p, { key }) => {
      setSaid(undefined)
      setUndo(key)
      done(p)
    },
  })
  const takeBack = useMutation({
    mutationFn: (key: string) => call<Partner>('DELETE', `${at}/stances/${key}`),
    onSuccess: (p) => {
      setUndo(undefined)
      done(p)
    },
  })
  if (partner.error) return <Page title="Partner"><Wrong error={partner.error} retry={() => void partner.refetch()} /></Page>
  const p = partner.data
  if (!p) return <Waiting what="Reading the partner" />
  const keep = mayKeep(role)
  const half = new Map((halves.data?.halves ?? []).map((h) => [h.key, h]))
  return (
    <Page
      title={p.name}
      lead={
        <>
          <Standing s={p.standing} /> {p.standing_since && <>since {when(p.standing_since)}</>}
          {p.standing_reason && <>: {p.standing_reason}</>} · {p.counts.guests} guests, {p.counts.grants} grants in {p.counts.spaces} spaces
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
            <Button size="sm" variant="outline-secondary" onClick={() => setAsking('merge')}>
              Merge
            </Button>
            {p.domains.length > 1 && (
              <Button size="sm" variant="outline-secondary" onClick={() => setAsking('split')}>
                Split
              </Button>
            )}
          </>
        )
      }
    >
      {(open.error ?? takeBack.error ?? halves.error) && <Wrong error={open.error ?? takeBack.error ?? halves.error} />}
      {said && <Said p={p} said={said} error={record.error} busy={record.isPending} close={() => setSaid(undefined)} record={(by, why) => record.mutate({ ...said, by, why })} />}
      <div className="partner even">
        <section aria-labelledby="h-about">
          <h2 id="h-about">Who they are</h2>
          <Facts p={p} />
          {keep && (
            <Button size="sm" variant="outline-primary" className="mt-2" onClick={() => setAsking('edit')}>
              Change
            </Button>
          )}
        </section>
        <Domains p={p} keep={keep} done={done} />
      </div>
      <div className="partner">
        <div>
          <section aria-labelledby="h-open">
            <h2 id="h-open">What is open, both halves</h2>
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
                        <Opening p={p} h={half.get(`${s}.${d}`)} k={`${s}.${d}`} keep={keep && !open.isPending} set={(value) => open.mutate({ key: `${s}.${d}`, value })} record={(says) => {
                            record.reset()
                            setSaid({ key: `${s}.${d}`, says })
                          }} />
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {undo && (
              <p role="status" className="way-back">
                What they say of {undo} is recorded.{' '}
                <Button size="sm" variant="link" disabled={takeBack.isPending} onClick={() => takeBack.mutate(undo)}>
                  Take it back
                </Button>
              </p>
            )}
            <p className="quiet">Left what we open, right what their own side says; below what the two come to, and how we know.</p>
          </section>
        </div>
        <div>
          <AdviceBox id={p.id} />
          <StatementBox p={p} keep={keep} admin={role === 'administrator'} />
        </div>
      </div>
      <div className="partner">
        <People id={p.id} />
        <div>
          <PartnerLetters p={p} keep={keep} />
        </div>
      </div>
      <div className="partner">
        <section aria-labelledby="h-rules">
          <h2 id="h-rules">Rules for its people</h2>
          {values.error && <Wrong error={values.error} />}
          {values.data && <ValueTable values={values.data} edit={keep} />}
        </section>
        <History id={p.id} />
      </div>
      {(asking === 'active' || asking === 'suspended' || asking === 'ended') && <AskStanding p={p} standing={asking} close={() => setAsking(undefined)} done={done} />}
      {asking === 'edit' && <Edit p={p} close={() => setAsking(undefined)} done={done} />}
      {asking === 'merge' && <Merge p={p} close={() => setAsking(undefined)} />}
      {asking === 'split' && <Split p={p} close={() => setAsking(undefined)} />}
    </Page>
  )
}

function Facts({ p }: { p: Partner }) {
  const facts: [string, string | undefined][] = [
    ['Id', p.id],
    ['Also named', p.also_named?.join(', ')],
    ['Their administrator', p.contacts?.join(', ') ?? 'nobody known'],
    ['Kept by', p.owner ?? 'nobody of ours'],
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

function Edit({ p, close, done }: { p: Partner; close: () => void; done: (p: Partner) => void }) {
  const [f, setF] = useState({ name: p.name, also: p.also_named?.join(', ') ?? '', contacts: p.contacts?.join(', ') ?? '', owner: p.owner ?? '', review: p.review ?? '', note: p.note ?? '', statement: p.statement ?? '', sign_in: p.sign_in ?? '', sign_in_client: p.sign_in_client ?? '', why: '' })
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
      return patch<Partner>(`/api/v1/partners/${encodeURIComponent(p.id)}`, { ...given, also_named: list(also), contacts: list(contacts), ...signIn, ...(why ? { why } : {}) }, { 'If-Match': p.etag })
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
    <Modal show policy onHide={close} aria-labelledby="edit-title">
      <Form
        onSubmit={(e) => {
          e.preventDefault()
          save.mutate()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title id="edit-title" as="h2">
            Change what is written of {p.name}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {save.error && <Wrong error={save.error} />}
          {field('name', 'Name')}
          {field('also', 'Other names', 'Separated by commas; it is found by them too.')}
          {field('contacts', 'Who administers their side', 'Addresses, separated by commas.')}
          <div className="plain-combo mb-2">
            <Combo label="Kept by" kind="person" value={f.owner} onChange={(owner) => setF({ ...f, owner })} />
          </div>
          {field('review', 'Look at it again on', 'A date, or days from today as +180d.')}
          {field('note', 'Note')}
          {field('statement', 'Where their signed statement is published', 'Empty where they publish none.')}
          {field('sign_in', 'Their own sign-in', 'The issuer of OpenID Connect; empty where guests come in with mailed codes.')}
          {f.sign_in && field('sign_in_client', 'As whom we are known there')}
          {f.sign_in && (
            <Form.Check className="mb-2" id="e-unverified" label="Take addresses that their sign-in does not call verified" checked={unverified} onChange={(e) => setUnverified(e.target.checked)} />
          )}
          {field('why', 'Why')}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={save.isPending}>
            Save
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

/** What a merge or a split would do, before it is done. */
function Weighing({ x }: { x: Rearranged }) {
  return (
    <div data-testid="weighed" className="mt-3">
      <p role="status">
        That concerns <b>{x.concerns.guests} guests</b> with <b>{x.concerns.grants} grants</b> in <b>{x.concerns.spaces} spaces</b>.{x.differs.length === 0 && ' They find nothing otherwise.'}
      </p>
      {x.named.length > 0 && <p className="quiet">Named in, and followed: {x.named.join(', ')}.</p>}
      {x.differs.length > 0 && (
        <table className="table listing">
          <caption>What they find otherwise</caption>
          <thead>
            <tr>
              <th scope="col">What</th>
              <th scope="col">Now</th>
              <th scope="col">Then</th>
            </tr>
          </thead>
          <tbody>
            {x.differs.map((d) => (
              <tr key={d.what}>
                <th scope="row">{d.what}</th>
                <td>{d.was}</td>
                <td>{d.becomes}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  )
}

function useRearrange(path: string, p: Partner, close: () => void) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [weighed, setWeighed] = useState<Rearranged>()
  const run = useMutation({
    mutationFn: ({ body, preview }: { body: unknown; preview: boolean }) => call<Rearranged>('POST', `/api/v1/partners/${encodeURIComponent(p.id)}/${path}${preview ? '?preview=true' : ''}`, body, { 'If-Match': p.etag }),
    onSuccess: (x) => {
      if (x.preview) return setWeighed(x)
      close()
      navigate(`/partners/${x.partner.id}`)
      void client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
    },
  })
  return { weighed, forget: () => setWeighed(undefined), run }
}

function Merge({ p, close }: { p: Partner; close: () => void }) {
  const [into, setInto] = useState('')
  const { weighed, forget, run } = useRearrange('merge', p, close)
  return (
    <Modal show policy={false} onHide={close} aria-labelledby="merge-title">
      <Form
        onSubmit={(e) => {
          e.preventDefault()
          run.mutate({ body: { into: into.trim() }, preview: !weighed })
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title id="merge-title" as="h2">
            Merge {p.name} into another
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {run.error && <Wrong error={run.error} />}
          <p>Its domains become those of the other, whose record then counts for everybody. What names {p.name} names the other instead.</p>
          <div className="plain-combo">
            <Combo
              label="The one that stays"
              kind="partner"
              value={into}
              onChange={(v) => {
                setInto(v)
                forget()
              }}
            />
          </div>
          {weighed && <Weighing x={weighed} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" variant={weighed ? 'danger' : 'primary'} disabled={run.isPending || into.trim() === ''}>
            {weighed ? 'Merge' : 'See what would change'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

function Split({ p, close }: { p: Partner; close: () => void }) {
  const [domains, setDomains] = useState<string[]>([])
  const [name, setName] = useState('')
  const [id, setID] = useState('')
  const { weighed, forget, run } = useRearrange('split', p, close)
  return (
    <Modal show policy={false} onHide={close} aria-labelledby="split-title">
      <Form
        onSubmit={(e) => {
          e.preventDefault()
          run.mutate({ body: { domains, id, name }, preview: !weighed })
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title id="split-title" as="h2">
            Split domains off {p.name}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {run.error && <Wrong error={run.error} />}
          <p>They become a partner of their own with the same standing, openings, rules and stances: nobody’s reach changes.</p>
          <fieldset className="mb-3">
            <legend className="fs-6">Domains of the new one</legend>
            {p.domains.map((d) => {
              const value = (d.subdomains ? '*.' : '') + d.name
              return (
                <Form.Check
                  key={d.name}
                  id={`sp-${d.name}`}
                  label={d.name + (d.subdomains ? ' and below' : '')}
                  checked={domains.includes(value)}
                  onChange={(e) => {
                    setDomains(e.target.checked ? [...domains, value] : domains.filter((x) => x !== value))
                    forget()
                  }}
                />
              )
            })}
          </fieldset>
          <Form.Group controlId="sp-name" className="mb-2">
            <Form.Label>Name</Form.Label>
            <Form.Control
              size="sm"
              required
              value={name}
              onChange={(e) => {
                setName(e.target.value)
                setID(e.target.value.toLowerCase().normalize('NFD').replace(/[^a-z0-9]+/g, '-').replace(/^-|-$/g, ''))
                forget()
              }}
            />
          </Form.Group>
          <Form.Group controlId="sp-id">
            <Form.Label>Id</Form.Label>
            <Form.Control
              size="sm"
              required
              pattern="[a-z0-9][a-z0-9._\-]*"
              value={id}
              onChange={(e) => {
                setID(e.target.value)
                forget()
              }}
            />
          </Form.Group>
          {weighed && <Weighing x={weighed} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={run.isPending || domains.length === 0}>
            {weighed ? 'Split' : 'See what would change'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

function People({ id }: { id: string }) {
  const [q, setQ] = useState('')
  const pages = useInfiniteQuery({
    queryKey: ['people-of', id, q],
    queryFn: ({ pageParam }) => call<{ people: TheirPerson[]; next: string }>('GET', `/api/v1/partners/${encodeURIComponent(id)}/people${query({ q, cursor: pageParam, limit: pageParam ? '100' : '12' })}`),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (old) => old,
  })
  const people = { error: pages.error, data: pages.data && { people: pages.data.pages.flatMap((p) => p.people) } }
  return (
    <section aria-labelledby="h-people">
      <h2 id="h-people">Their people</h2>
      <Form.Control size="sm" type="search" className="mb-2" aria-label="Find one of their people" placeholder="Find by name or address" value={q} onChange={(e) => setQ(e.target.value)} />
      {people.error && <Wrong error={people.error} />}
      {people.data && people.data.people.length === 0 && <p className="quiet">{q ? `Nobody matches “${q}”.` : 'Nobody of theirs has a record or a role here.'}</p>}
      {people.data && people.data.people.length > 0 && (
        <div className="wide" role="region" aria-label="List of their people" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Who</th>
                <th scope="col">Record</th>
                <th scope="col" className="num">
                  Roles
                </th>
                <th scope="col">Last role ends</th>
              </tr>
            </thead>
            <tbody>
              {people.data.people.map((x) => (
                <tr key={x.address}>
                  <th scope="row">
                    {x.state ? <Link to={`/guests/${encodeURIComponent(x.address)}`}>{x.name || x.address}</Link> : x.name || x.address}
                    {x.name && <span className="sub">{x.address}</span>}
                  </th>
                  <td>
                    {x.state ?? 'none'}
                    {x.barred && ', barred'}
                    <span className="sub">{x.kind}</span>
                  </td>
                  <td className="num">
                    {x.roles}
                    <span className="sub">in {x.spaces}</span>
                  </td>
                  <td>{x.roles === 0 ? '' : x.until ? until(x.until) : 'never'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {pages.hasNextPage && (
        <Button size="sm" variant="outline-primary" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          More of their people ({people.data?.people.length} are shown)
        </Button>
      )}
      <p className="quiet">
        <Link to={`/guests?partner=${id}`}>Their records and when each ends</Link> · <Link to={`/due?partner=${id}&until=%2B90d`}>what is due of them</Link>
      </p>
    </section>
  )
}

function AdviceBox({ id }: { id: string }) {
  const { data, error } = useQuery({ queryKey: ['advice', id], queryFn: () => call<Advice>('GET', `/api/v1/partners/${encodeURIComponent(id)}/advice`) })
  const [all, setAll] = useState(false)
  if (error) return <Wrong error={error} />
  if (!data) return null
  return (
    <section aria-labelledby="h-advice">
      <h2 id="h-advice">How to connect</h2>
      <p>{data.short}</p>
      {data.ways
        .filter((w) => all || w.fits || w.in_use)
        .map((w) => (
          <div key={w.name} className="way">
            <b>
              {w.fits ? '▲ ' : '· '}
              {w.title}
            </b>
            {w.in_use && <span className="tag">in use</span>}
            <ul>
              {w.for.map((t) => (
                <li key={t}>+ {t}</li>
              ))}
              {w.against.map((t) => (
                <li key={t}>− {t}</li>
              ))}
            </ul>
            {all && (
              <p className="quiet">
                {w.gives} {w.costs} Needs {w.needs}.
              </p>
            )}
          </div>
        ))}
      <Button size="sm" variant="link" onClick={() => setAll(!all)} aria-expanded={all}>
        {all ? 'Less' : 'All ways, with what they give and cost'}
      </Button>
      <p className="quiet">
        In 90 days {data.figures.came} came and {data.figures.went} went. What ours do at theirs leaves no trace here and is not looked at.
      </p>
    </section>
  )
}

function StatementBox({ p, keep, admin }: { p: Partner; keep: boolean; admin: boolean }) {
  const client = useQueryClient()
  const at = `/api/v1/partners/${encodeURIComponent(p.id)}/statement`
  const st = useQuery({ queryKey: ['statement', p.id, p.statement], queryFn: () => call<TheirStatement>('GET', at) })
  const fresh = (x: TheirStatement) => {
    void client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' && q.queryKey[0] !== 'statement' })
    client.setQueryData(['statement', p.id, p.statement], x)
  }
  const fetch = useMutation({ mutationFn: () => call<TheirStatement>('POST', at), onSuccess: fresh })
  const accept = useMutation({ mutationFn: (key: string) => call<TheirStatement>('PUT', `${at}/key`, { key, why: 'confirmed by another way' }), onSuccess: () => fetch.mutate() })
  const x = st.data
  return (
    <section aria-labelledby="h-statement">
      <h2 id="h-statement">Their signed statement</h2>
      {(st.error ?? fetch.error ?? accept.error) && <Wrong error={st.error ?? fetch.error ?? accept.error} />}
      {!p.statement && <p className="quiet">They publish none that we know of.</p>}
      {p.statement && x && (
        <>
          <dl className="facts">
            <dt>Published at</dt>
            <dd>{p.statement}</dd>
            {x.issued && (
              <>
                <dt>Taken</dt>
                <dd>
                  of {when(x.issued)}, good until {x.until && when(x.until)}
                </dd>
              </>
            )}
          </dl>
          {x.problem && (
            <p className="gets-no" role="status">
              ▼ Not taken: {x.reason}
            </p>
          )}
          <div className="inline-form mt-2">
            {keep && (
              <Button size="sm" variant="outline-primary" onClick={() => fetch.mutate()} disabled={fetch.isPending}>
                Fetch now
              </Button>
            )}
            {admin && x.offered && (
              <Button size="sm" variant="outline-danger" onClick={() => accept.mutate(x.offered!)} disabled={accept.isPending}>
                Their administrator confirmed this key
              </Button>
            )}
          </div>
        </>
      )}
    </section>
  )
}

const saysWord: Record<string, string> = { admits: 'they admit it', refuses: 'they refuse it', unknown: 'it is not known what they say' }

/** Asks who of theirs said what is recorded, before letters close over it. */
function Said({ p, said, error, busy, close, record }: { p: Partner; said: { key: string; says: string }; error: unknown; busy: boolean; close: () => void; record: (by: string, why: string) => void }) {
  const [by, setBy] = useState('')
  const [why, setWhy] = useState('')
  const letters = useQuery({ queryKey: ['letters', p.id], queryFn: () => call<{ letters: Letter[] }>('GET', `/api/v1/letters${query({ partner: p.id })}`) })
  const closes = said.says === 'unknown' ? [] : (letters.data?.letters ?? []).filter((l) => l.state === 'open' && l.about.includes(said.key))
  const must = said.says !== 'unknown'
  const weighed = useQuery({
    queryKey: ['weighed', p.id, p.etag, said.key, said.says],
    queryFn: () => call<Partner>('PUT', `/api/v1/partners/${encodeURIComponent(p.id)}/stances/${said.key}?preview=true`, { says: said.says }),
    gcTime: 0,
  })
  return (
    <AskDialog title={`${said.key}: ${saysWord[said.says]}`} leave="Record nothing" submit="Record it" disabled={busy || (must && by.trim() === '')} error={error ?? weighed.error} close={close} onSubmit={() => record(by.trim(), why.trim())}>
      {!weighed.error && <WeighedText w={weighed.data?.weighed} />}
      {closes.length > 0 && <p>It may close {closes.length === 1 ? 'the letter' : 'the letters'} {closes.map((l) => l.id).join(', ')}. You can take it back.</p>}
      <Form.Group controlId="said-by">
        <Form.Label>Who of theirs said so</Form.Label>
        <Form.Control value={by} onChange={(e) => setBy(e.target.value)} required={must} maxLength={300} autoFocus />
      </Form.Group>
      <Form.Group controlId="said-why" className="mt-2">
        <Form.Label>How you know, if there is more to say</Form.Label>
        <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} maxLength={1000} />
      </Form.Group>
    </AskDialog>
  )
}

function Opening({ p, h, k, keep, set, record }: { p: Partner; h: BothHalves | undefined; k: string; keep: boolean; set: (v: boolean | undefined) => void; record: (says: string) => void }) {
  const ours = k in p.opened ? (p.opened[k] ? 'yes' : 'no') : 'unset'
  const stance = p.stance.find((s) => s.key === k)
  const theirs = stance?.says ?? 'unknown'
  // An arrow key chooses, and writes nothing.
  const [picked, setPicked] = useState<string>()
  const [said, setSaid] = useState<string>()
  useEffect(() => setPicked(undefined), [ours])
  useEffect(() => setSaid(undefined), [theirs])
  return (
    <div className="opening">
      <Form.Select size="sm" aria-label={`${k}, ours`} value={picked ?? ours} disabled={!keep} className={`ours-${picked ?? ours}`} onChange={(e) => setPicked(e.target.value)}>
        <option value="unset">· not opened</option>
        <option value="yes">▲ yes</option>
        <option value="no">▼ no</option>
      </Form.Select>
      <Form.Select size="sm" aria-label={`${k}, theirs`} value={said ?? theirs} disabled={!keep} className={`theirs theirs-${said ?? theirs}`} onChange={(e) => setSaid(e.target.value)}>
        <option value="unknown">? not known</option>
        <option value="admits">△ they admit</option>
        <option value="refuses">▽ they refuse</option>
      </Form.Select>
      {picked !== undefined && picked !== ours && (
        <Button size="sm" variant="outline-primary" aria-label={`Set ours: ${k}`} onClick={() => set(picked === 'unset' ? undefined : picked === 'yes')}>
          Set ours
        </Button>
      )}
      {said !== undefined && said !== theirs && (
        <Button size="sm" variant="outline-primary" aria-label={`Record theirs: ${k}`} onClick={() => record(said)}>
          Record theirs
        </Button>
      )}
      {h && (
        <span className="sub">
          <b>{together[h.joint]}</b>
          {h.both && h.joint === 'open' && `: ${h.both.join(', ')}`}
          {h.joint === 'shut' && h.ours === 'yes' && `, ${oursWord(h)}`}
          {h.source && h.as_of && (
            <>
              <br />
              {h.old ? 'too old: ' : ''}
              {h.source}
              {h.said_by && `, ${h.said_by}`}, {since(h.as_of)}
            </>
          )}
        </span>
      )}
    </div>
  )
}

function Domains({ p, keep, done }: { p: Partner; keep: boolean; done: (p: Partner) => void }) {
  const [name, setName] = useState('')
  const [sub, setSub] = useState(false)
  const [alike, setAlike] = useState(false)
  const [taking, setTaking] = useState(false)
  const [weighed, setWeighed] = useState<{ what: 'add' | string; p: Partner }>()
  const weigh = useMutation({
    mutationFn: (what: string) =>
      what === 'add'
        ? call<Partner>('POST', `/api/v1/partners/${p.id}/domains?preview=true`, { domain: name, subdomains: sub, look_alike: alike })
        : call<Partner>('DELETE', `/api/v1/partners/${p.id}/domains/${encodeURIComponent(what)}?preview=true`),
    onSuccess: (x, what) => setWeighed({ what, p: x }),
  })
  const add = useMutation({
    mutationFn: () => call<Partner>('POST', `/api/v1/partners/${p.id}/domains`, { domain: name, subdomains: sub, look_alike: alike }),
    onSuccess: (x) => {
      setWeighed(undefined)
      setName('')
      setSub(false)
      setAlike(false)
      done(x)
    },
  })
  const remove = useMutation({
    mutationFn: (d: string) => call<Partner>('DELETE', `/api/v1/partners/${p.id}/domains/${encodeURIComponent(d)}`),
    onSuccess: (x) => {
      setWeighed(undefined)
      done(x)
    },
  })
  const wrong = weigh.error ?? add.error ?? remove.error
  const looksAlike = alike || (weigh.error instanceof Error && weigh.error.message.includes('looks like'))
  const submit = (e: FormEvent) => {
    e.preventDefault()
    weigh.mutate('add')
  }
  const told = weighed?.p.concerns
  return (
    <section aria-labelledby="h-domains">
      <h2 id="h-domains">Domains</h2>
      {wrong && <Wrong error={wrong} />}
      {weighed && told && (
        <div className="weighed" role="status">
          {weighed.what === 'add' ? `${name} would belong to ${p.name}.` : `${weighed.what} would no longer belong to ${p.name}.`} That concerns <b>{told.guests} guests</b> with {told.grants} grants in {told.spaces} spaces.{' '}
          <Button size="sm" onClick={() => (weighed.what === 'add' ? add.mutate() : remove.mutate(weighed.what))} disabled={add.isPending || remove.isPending}>
            {weighed.what === 'add' ? 'Add it' : 'Take it away'}
          </Button>{' '}
          <Button size="sm" variant="link" onClick={() => setWeighed(undefined)}>
            Leave it
          </Button>
        </div>
      )}
      <ul className="domains">
        {p.domains.map((d) => (
          <li key={d.name}>
            <span>
              {d.name}
              {d.subdomains ? ' and below' : ''}
            </span>
            {keep && (
              <Button size="sm" variant="link" onClick={() => weigh.mutate(d.name)} aria-label={`Take away ${d.name} from ${p.name}`}>
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
          <Button size="sm" type="submit" variant="outline-primary" disabled={weigh.isPending}>
            Add
          </Button>
          <Button size="sm" variant="link" onClick={() => setTaking(true)}>
            Take a list
          </Button>
        </Form>
      )}
      {taking && <ListImport list="partner" partner={p.id} title={`Take a list of domains of ${p.name}`} close={() => setTaking(false)} />}
    </section>
  )
}

function History({ id }: { id: string }) {
  const pages = useInfiniteQuery({
    queryKey: ['journal', 'partner', id],
    queryFn: ({ pageParam }) => call<{ entries: JournalEntry[]; next: string }>('GET', `/api/v1/journal${query({ kind: 'partner', id, cursor: pageParam, limit: pageParam ? '50' : '5' })}`),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
  })
  const data = pages.data && { entries: pages.data.pages.flatMap((p) => p.entries) }
  if (!data || data.entries.length === 0) return null
  return (
    <section aria-labelledby="h-history">
      <h2 id="h-history">Last changes</h2>
      <ul className="history">
        {data.entries.map((e) => (
          <li key={e.seq}>
            <time dateTime={e.at}>{when(e.at)}</time> {e.who}
            {e.why ? `: ${e.why}` : ''} <span className="log-diff">{saidOf(e)}</span>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <Button size="sm" variant="link" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Earlier changes
        </Button>
      )}
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
    <Modal show policy onHide={close} aria-labelledby="standing-title">
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
