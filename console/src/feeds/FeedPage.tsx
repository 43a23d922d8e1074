import { useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, patch, query, type Feed, type FeedApplied, type FeedLine, type FeedPerson, type FeedToken, type FeedTwin } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { useChange, useRefresh } from '../parts/change'
import { Combo } from '../parts/Combo'
import { TokenTold } from './FeedsPage'
import { Lines } from './Lines'
import { braked, outcome, stateOf } from './words'

type People = { people: FeedPerson[]; next?: number }
type LogPage = { lines: FeedLine[]; next?: number }

/** One partner's feed: how it stands, whom it tells of and what that does, what went wrong, and who is here twice. */
export function FeedPage({ role }: { role: string }) {
  const { partner = '' } = useParams()
  const path = `/api/v1/feeds/${partner}`
  const feed = useQuery({ queryKey: ['feeds', partner], queryFn: () => call<Feed>('GET', path) })
  const [asking, setAsking] = useState<'change' | 'end' | 'token' | 'release' | 'apply'>()
  const f = feed.data
  const admin = role === 'administrator'
  if (feed.error) return <Wrong error={feed.error} retry={() => void feed.refetch()} />
  if (!f) return <Waiting what="Reading" />
  const state = stateOf(f)
  return (
    <Page
      title={`People feed of ${f.name}`}
      lead={
        <>
          {state.bad ? <b className="gets-no">▼ {state.text}</b> : state.text}; {f.all} people, {f.active} of them in use there{f.heard && <>, heard last {when(f.heard)}</>}. <Link to={`/partners/${f.partner}`}>The partner</Link>
        </>
      }
      tools={
        admin ? (
          <>
            <Button size="sm" variant="outline-primary" onClick={() => setAsking('change')}>
              Change
            </Button>
            <Button size="sm" variant="outline-primary" onClick={() => setAsking('token')}>
              New token
            </Button>
            <Button size="sm" variant="outline-danger" onClick={() => setAsking('end')}>
              End it
            </Button>
          </>
        ) : undefined
      }
    >
      {f.shut && (
        <p className="gets-no">
          ▼ Nobody comes in. {f.shut} <Link to={`/partners/${f.partner}`}>Change it at the partner</Link>
        </p>
      )}
      {braked(f) && (
        <p className="gets-no">
          ▼ It has closed {f.closed_today} accounts within a day, which is as many as it may; more wait.{' '}
          {admin && (
            <Button size="sm" variant="outline-danger" onClick={() => setAsking('release')}>
              Let it go on
            </Button>
          )}
        </p>
      )}
      <div className="partner">
        <div>
          <Told f={f} apply={admin && f.waiting > 0 && !f.shut ? () => setAsking('apply') : undefined} />
        </div>
        <div>
          <section aria-labelledby="h-feed">
            <h2 id="h-feed">How it is set</h2>
            <dl className="said">
              {(
                [
                  ['It speaks to', <code key="u">{f.url}</code>],
                  ['Who answers for them', f.sponsor_name ?? 'nobody'],
                  ['Address', { either: 'userName where it is one, else the primary mail', userName: 'userName', emails: 'the primary mail' }[f.address]],
                  ['Name', { any: 'displayName, else the parts of the name', displayName: 'displayName', name: 'the parts of the name' }[f.name_from]],
                  ['Before the first use', f.silent ? 'nobody is asked: both sides say so' : f.consent ? 'they are asked: their side skips it, ours does not (directory.consent)' : 'they are asked'],
                  ['Closed within a day', `${f.closed_today} of ${f.most ?? 'any number'}`],
                  ['Token until', f.token_ends ? when(f.token_ends) : 'ended'],
                ] as const
              ).map(([k, v]) => (
                <div key={k}>
                  <dt>{k}</dt>
                  <dd>{v}</dd>
                </div>
              ))}
            </dl>
          </section>
          <Wrongs f={f} />
          <Twins f={f} />
        </div>
      </div>
      {asking === 'change' && <ChangeFeed f={f} close={() => setAsking(undefined)} />}
      {asking === 'apply' && <Apply f={f} close={() => setAsking(undefined)} />}
      {asking === 'token' && <NewToken f={f} close={() => setAsking(undefined)} />}
      {asking === 'release' && <WithWhy f={f} title="Let the feed go on" submit="Let it go on" path={`${path}/release`} text={`It may close as many again as in a day: ${f.most ?? ''}.`} close={() => setAsking(undefined)} />}
      {asking === 'end' && <EndFeed f={f} close={() => setAsking(undefined)} />}
    </Page>
  )
}

/** Whom it tells of, each with what becomes of their record. */
function Told({ f, apply }: { f: Feed; apply?: () => void }) {
  const [alone, setAlone] = useState(true)
  const waiting = alone && f.waiting > 0
  const people = useInfiniteQuery({
    queryKey: ['feeds', f.partner, 'people', waiting],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => call<People>('GET', `/api/v1/feeds/${f.partner}/people${query({ waiting: waiting ? 'true' : undefined, after: pageParam ? String(pageParam) : undefined })}`),
    getNextPageParam: (last) => last.next,
  })
  const all = people.data?.pages.flatMap((p) => p.people) ?? []
  return (
    <section aria-labelledby="h-told">
      <h2 id="h-told">Whom it tells of</h2>
      <div className="inline-form">
        {f.waiting > 0 && <Form.Check id="fd-waiting" label={`those alone who wait (${f.waiting})`} checked={alone} onChange={(e) => setAlone(e.target.checked)} />}
        {apply && (
          <Button size="sm" onClick={apply}>
            Bring them in
          </Button>
        )}
      </div>
      {people.error && <Wrong error={people.error} retry={() => void people.refetch()} />}
      {people.data && all.length === 0 && <Empty>{waiting ? 'Nobody waits.' : 'It has told of nobody yet.'}</Empty>}
      {all.length > 0 && (
        <table className="table">
          <thead>
            <tr>
              <th scope="col">Who</th>
              <th scope="col">There</th>
              <th scope="col">Here</th>
            </tr>
          </thead>
          <tbody>
            {all.map((p) => (
              <tr key={p.id}>
                <th scope="row">
                  {p.address && !['new', 'nobody', 'refused'].includes(p.would) ? <Link to={`/guests/${encodeURIComponent(p.address)}`}>{p.name || p.address}</Link> : (p.name ?? p.address ?? p.user_name)}
                  {p.address && p.name && <span className="sub">{p.address}</span>}
                </th>
                <td>{p.active ? 'in use' : 'closed'}</td>
                <td>
                  <span className={p.would === 'refused' ? 'gets-no' : ''}>{p.applied && p.would === 'same' ? 'is here' : outcome[p.would]}</span>
                  {p.why && <span className="sub">{p.why}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {people.hasNextPage && (
        <Button size="sm" variant="outline-primary" disabled={people.isFetchingNextPage} onClick={() => void people.fetchNextPage()}>
          More
        </Button>
      )}
    </section>
  )
}

/** What was refused lately, with the reason that the other side was told. */
function Wrongs({ f }: { f: Feed }) {
  const [wrong, setWrong] = useState(true)
  const log = useQuery({ queryKey: ['feeds', f.partner, 'log', wrong], queryFn: () => call<LogPage>('GET', `/api/v1/feeds/${f.partner}/log${query({ wrong: wrong ? 'true' : undefined, limit: '20' })}`) })
  const lines = log.data?.lines ?? []
  return (
    <section aria-labelledby="h-log">
      <h2 id="h-log">What came of its requests</h2>
      <Form.Check id="fd-wrong" label="what went wrong alone" checked={wrong} onChange={(e) => setWrong(e.target.checked)} />
      {log.error && <Wrong error={log.error} />}
      {log.data && lines.length === 0 && <Empty>{wrong ? 'Nothing went wrong.' : 'It has not spoken yet.'}</Empty>}
      <Lines lines={lines} words={outcome} />
    </section>
  )
}

/** Who seems to be here twice, with the way to one record. */
function Twins({ f }: { f: Feed }) {
  const list = useQuery({ queryKey: ['feeds', f.partner, 'twins'], queryFn: () => call<{ twins: FeedTwin[] }>('GET', `/api/v1/feeds/${f.partner}/twins`) })
  const twins = list.data?.twins ?? []
  if (twins.length === 0) return null
  return (
    <section aria-labelledby="h-twins">
      <h2 id="h-twins">Here twice?</h2>
      <ul className="domains">
        {twins.map((t) => (
          <li key={t.fed + t.guest}>
            <span>
              <b>{t.name}</b>: {t.fed} by the feed, {t.guest} as a guest
              <span className="sub">{t.differs.join('; ')}</span>
            </span>
            <Link className="btn btn-sm btn-outline-primary" to={`/guests/${encodeURIComponent(t.fed)}?merge=${encodeURIComponent(t.guest)}`}>
              Make them one
            </Link>
          </li>
        ))}
      </ul>
    </section>
  )
}

function ChangeFeed({ f, close }: { f: Feed; close: () => void }) {
  const [state, setState] = useState<string>(f.state)
  const [sponsor, setSponsor] = useState(f.sponsor ? `person:${f.sponsor}` : '')
  const [address, setAddress] = useState<string>(f.address)
  const [name, setName] = useState<string>(f.name_from)
  const [consent, setConsent] = useState(f.consent)
  const [brake, setBrake] = useState(String(f.brake))
  const [why, setWhy] = useState('')
  const person = sponsor.trim().replace(/^person:/, '')
  const body = {
    ...(state !== f.state ? { state } : {}),
    ...(person !== (f.sponsor ?? '') ? { sponsor: person } : {}),
    ...(address !== f.address ? { address } : {}),
    ...(name !== f.name_from ? { name_from: name } : {}),
    ...(consent !== f.consent ? { consent } : {}),
    ...(Number(brake) !== f.brake ? { brake: Number(brake) } : {}),
  }
  const go = useChange(() => patch<Feed>(`/api/v1/feeds/${f.partner}`, { ...body, why: why.trim() }), close)
  return (
    <AskDialog title={`Feed of ${f.name}`} leave="Cancel" submit="Save" disabled={go.isPending || why.trim() === '' || Object.keys(body).length === 0} error={go.error} close={close} onSubmit={() => go.mutate()}>
      <Form.Group controlId="fd-state" className="mb-2">
        <Form.Label>What it tells</Form.Label>
        <Form.Select size="sm" value={state} onChange={(e) => setState(e.target.value)}>
          <option value="watched">is shown alone (watched)</option>
          <option value="on">comes to records at once (on)</option>
        </Form.Select>
      </Form.Group>
      {state === 'on' && f.state !== 'on' && f.waiting > 0 && <p>From now on. The {f.waiting} who wait come when you bring them in.</p>}
      <div className="plain-combo mb-2">
        <Combo label="Who answers for those who come" kind="person" value={sponsor} onChange={setSponsor} />
      </div>
      <Form.Group controlId="fd-address" className="mb-2">
        <Form.Label>Address</Form.Label>
        <Form.Select size="sm" value={address} onChange={(e) => setAddress(e.target.value)}>
          <option value="either">userName where it is one, else the primary mail</option>
          <option value="userName">userName</option>
          <option value="emails">the primary mail</option>
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="fd-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Select size="sm" value={name} onChange={(e) => setName(e.target.value)}>
          <option value="any">displayName, else the parts of the name</option>
          <option value="displayName">displayName</option>
          <option value="name">the parts of the name</option>
        </Form.Select>
      </Form.Group>
      <Form.Check id="fd-consent" className="mb-2" label="Their side says that it skips the question before the first use" checked={consent} onChange={(e) => setConsent(e.target.checked)} />
      <Form.Group controlId="fd-brake" className="mb-2">
        <Form.Label>How many accounts it may close in a day (0: as the settings say)</Form.Label>
        <Form.Control size="sm" type="number" min={0} max={1000000} value={brake} onChange={(e) => setBrake(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="fd-change-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

/** Brings in those who wait, share by share, with a bar; it can be stopped, and nothing is lost. */
function Apply({ f, close }: { f: Feed; close: () => void }) {
  const refresh = useRefresh()
  const [few, setFew] = useState('3')
  const [all, setAll] = useState(false)
  const [why, setWhy] = useState('')
  const [begun] = useState(f.waiting)
  const [left, setLeft] = useState<number>()
  const [sum, setSum] = useState<Record<string, number>>({})
  const stop = useRef(false)
  const go = useMutation({
    mutationFn: async () => {
      stop.current = false
      const done: Record<string, number> = {}
      for (let want = all ? Infinity : Number(few); want > 0 && !stop.current; ) {
        const x = await call<FeedApplied>('POST', `/api/v1/feeds/${f.partner}/apply`, { most: Math.min(200, want), why: why.trim() })
        let did = x.refused
        for (const [k, n] of Object.entries(x.done)) {
          done[k] = (done[k] ?? 0) + n
          did += n
        }
        if (x.refused) done.refused = x.refused
        setSum({ ...done })
        setLeft(x.left)
        want -= did
        if (did === 0 || x.left <= x.refused) break
      }
      void refresh()
    },
  })
  return (
    <AskDialog title="Bring in whom it tells of" lock={false} leave={go.isPending ? 'Stop' : go.isSuccess ? 'Close' : 'Cancel'} submit={all ? 'Bring in all' : `Bring in ${few}`} disabled={go.isPending || why.trim() === '' || (!all && !(Number(few) > 0))} error={go.error} close={() => (go.isPending ? (stop.current = true) : close())} onSubmit={() => go.mutate()}>
      <Form.Check id="fd-few" type="radio" label="a few first" disabled={go.isPending} checked={!all} onChange={() => setAll(false)} />
      {!all && <Form.Control size="sm" className="mb-2" type="number" min={1} max={f.waiting} aria-label="How many" value={few} onChange={(e) => setFew(e.target.value)} />}
      <Form.Check id="fd-all" className="mb-2" type="radio" label={`all ${f.waiting}`} disabled={go.isPending} checked={all} onChange={() => setAll(true)} />
      <Form.Group controlId="fd-apply-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
      {left !== undefined && (
        <div role="status" className="mt-2">
          <progress max={begun} value={Math.max(0, begun - left)} aria-label="Brought in" />
          <p>
            {Object.entries(sum)
              .map(([k, n]) => `${outcome[k]}: ${n}`)
              .join('; ')}
            . {left} wait.
          </p>
        </div>
      )}
    </AskDialog>
  )
}

function NewToken({ f, close }: { f: Feed; close: () => void }) {
  const refresh = useRefresh()
  const [why, setWhy] = useState('')
  const go = useMutation({ mutationFn: () => call<FeedToken>('POST', `/api/v1/feeds/${f.partner}/token`, { why: why.trim() }), onSuccess: () => void refresh() })
  if (go.data) return <TokenTold x={go.data} close={close} />
  return (
    <AskDialog title="A new token" leave="Cancel" submit="Make it" disabled={go.isPending || why.trim() === ''} error={go.error} close={close} onSubmit={() => go.mutate()}>
      <p>The one before works no longer from then on: the feed is silent until their side has the new one.</p>
      <Form.Group controlId="fd-token-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

function WithWhy({ f, title, submit, path, text, close }: { f: Feed; title: string; submit: string; path: string; text: string; close: () => void }) {
  const [why, setWhy] = useState('')
  const go = useChange(() => call('POST', path, { why: why.trim() }), close)
  return (
    <AskDialog title={`${title}: ${f.name}`} leave="Cancel" submit={submit} danger disabled={go.isPending || why.trim() === ''} error={go.error} close={close} onSubmit={() => go.mutate()}>
      <p>{text}</p>
      <Form.Group controlId="fd-release-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

function EndFeed({ f, close }: { f: Feed; close: () => void }) {
  const [why, setWhy] = useState('')
  const [closed, setClosed] = useState(false)
  const go = useChange(
    () => call('DELETE', `/api/v1/feeds/${f.partner}${query({ why: why.trim(), closed: closed ? 'true' : undefined })}`),
    () => {
      close()
      history.back()
    },
  )
  return (
    <AskDialog title={`End the feed of ${f.name}`} leave="Cancel" submit="End it" danger disabled={go.isPending || why.trim() === ''} error={go.error} close={close} onSubmit={() => go.mutate()}>
      <p>Its token works no longer. Of the {f.all - f.waiting} people whom it brought here</p>
      <Form.Check id="fd-stay" type="radio" label="those whom it alone kept become guests like others, and their term begins now" checked={!closed} onChange={() => setClosed(false)} />
      <Form.Check id="fd-close" className="mb-2" type="radio" label="all count as closed: they are suspended, and removed after their grace" checked={closed} onChange={() => setClosed(true)} />
      <Form.Group controlId="fd-end-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
