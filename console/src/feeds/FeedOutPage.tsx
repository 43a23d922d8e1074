import { useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, type FeedOut, type FeedOutPerson, failed } from '../api'
import { Empty, next, Page, Waiting, when, Wrong } from '../parts/bits'
import { ChangeOut, EndOut, ReleaseOut } from './FeedOutForms'
import { Send } from './SendForm'
import { Lines } from './Lines'
import { counted, outState, sent } from './words'

type Asking = 'change' | 'end' | 'release' | 'send' | FeedOutPerson

/** A feed that keeps people of ours at a partner: how it stands, what it would do, what was sent, and whether it works. */
export function FeedOutPage({ role }: { role: string }) {
  const { partner = '' } = useParams()
  const [asking, setAsking] = useState<Asking>()
  const [all, setAll] = useState(false)
  const feed = useQuery({
    queryKey: ['feeds-out', partner],
    queryFn: () => call('GET /api/v1/feeds-out/{partner}', { path: { partner } }),
    refetchInterval: (q) => (q.state.data?.began && !q.state.data.ended ? 1000 : 15000),
  })
  const people = useInfiniteQuery({
    queryKey: ['feeds-out', partner, 'people', all, feed.data?.ended],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      call('GET /api/v1/feeds-out/{partner}/people', { path: { partner }, query: { all: all, after: pageParam || undefined } }),
    getNextPageParam: (last) => last.next,
  })
  const f = feed.data
  const admin = role === 'administrator'
  if (failed(feed)) return <Wrong error={feed.error} retry={() => void feed.refetch()} />
  if (!f) return <Waiting what="Reading" />
  const state = outState(f)
  const counts = people.data?.pages[0]?.counts ?? {}
  const due = ['new', 'taken_over', 'changed', 'closed', 'removed', 'back'].reduce((n, k) => n + (counts[k] ?? 0), 0)
  const sending = f.began && !f.ended
  return (
    <Page
      title={`People feed to ${f.name}`}
      lead={
        <>
          {state.bad ? <b className="gets-no">▼ {state.text}</b> : state.text}; {f.kept} of ours are kept there
          {f.closed > 0 && <>, {f.closed} more are closed there</>}. <Link to={`/partners/${f.partner}`}>The partner</Link>
        </>
      }
      tools={
        admin ? (
          <>
            <Button size="sm" variant="outline-primary" onClick={() => setAsking('change')}>
              Change
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
          ▼ Nothing goes there. {f.shut} <Link to={`/partners/${f.partner}`}>See the partner</Link>
        </p>
      )}
      {f.off && (
        <p className="gets-no">
          ▼ {f.off} <Link to={`/partners/${f.partner}`}>Change it at the partner</Link>
        </p>
      )}
      {f.problem && (
        <p className="gets-no">
          ▼ {f.problem}, since {when(f.since ?? f.made)}.{f.next && <> Tried again {next(f.next)}.</>}
        </p>
      )}
      {(counts.braked ?? 0) > 0 && (
        <p className="gets-no">
          ▼ {counts.braked} are to be closed there and wait: it has closed {f.closed_today} within a day, of {f.most}.{' '}
          {admin && (
            <Button size="sm" variant="outline-danger" onClick={() => setAsking('release')}>
              Let it go on
            </Button>
          )}
        </p>
      )}
      {sending && (
        <p role="status">
          Being sent: <progress max={f.total} value={f.done} aria-label="Sent" /> {f.done} of {f.total}
        </p>
      )}
      <div className="partner">
        <section aria-labelledby="h-ahead">
          <h2 id="h-ahead">What sending would do</h2>
          <div className="inline-form">
            <Form.Check
              id="fo-everybody"
              label={`everybody (${Object.values(counts).reduce((a, n) => a + n, 0)})`}
              checked={all}
              onChange={(e) => setAll(e.target.checked)}
            />
            {admin && due > 0 && !f.shut && (
              <Button size="sm" onClick={() => setAsking('send')}>
                Send now
              </Button>
            )}
          </div>
          {people.error && <Wrong error={people.error} retry={() => void people.refetch()} />}
          {!people.data && !people.error && <Waiting what="Comparing" />}
          {people.data?.pages[0]?.unsure && <p className="quiet">{people.data.pages[0].unsure}</p>}
          <Ahead list={people.data?.pages.flatMap((p) => p.people)} send={admin && !f.shut ? (p) => setAsking(p) : undefined} />
          {people.hasNextPage && (
            <Button size="sm" variant="outline-primary" disabled={people.isFetchingNextPage} onClick={() => void people.fetchNextPage()}>
              More
            </Button>
          )}
        </section>
        <div>
          <section aria-labelledby="h-set">
            <h2 id="h-set">How it is set</h2>
            <dl className="said">
              {(
                [
                  ['Their server', <code key="a">{f.address}</code>],
                  ['Token', `in ${f.key}`],
                  [
                    'About',
                    f.scope === 'all'
                      ? 'all for whom directory.feed_out is on'
                      : `${f.scope === 'groups' ? 'those in ' : ''}${f.of.join(', ')}, where directory.feed_out is on for them`,
                  ],
                  ['Sent', f.state === 'held' ? 'by hand alone' : `every ${f.every} minutes${f.next ? `, next ${next(f.next)}` : ''}`],
                  ['Last', f.ended ? `${when(f.ended)}: ${counted(f.did) || 'nothing was to be done'}` : f.began ? 'now' : 'never'],
                  ['Whoever leaves', f.leavers === 'close' ? 'is closed there' : 'is removed there'],
                  ['Closed within a day', `${f.closed_today} of ${f.most ?? 'any number'}`],
                ] as const
              ).map(([k, v]) => (
                <div key={k}>
                  <dt>{k}</dt>
                  <dd>{v}</dd>
                </div>
              ))}
            </dl>
          </section>
          {admin && <Look f={f} />}
          <SentLog f={f} />
        </div>
      </div>
      {asking === 'change' && <ChangeOut f={f} close={() => setAsking(undefined)} />}
      {asking === 'end' && <EndOut f={f} close={() => setAsking(undefined)} />}
      {asking === 'release' && <ReleaseOut f={f} close={() => setAsking(undefined)} />}
      {asking === 'send' && <Send f={f} due={due} close={() => setAsking(undefined)} />}
      {typeof asking === 'object' && <Send f={f} due={1} person={asking} close={() => setAsking(undefined)} />}
    </Page>
  )
}

function Ahead({ list, send }: { list?: FeedOutPerson[]; send?: (p: FeedOutPerson) => void }) {
  if (!list) return null
  if (list.length === 0) return <Empty>Nothing is to be done: they know there what is so here.</Empty>
  return (
    <table className="table">
      <thead>
        <tr>
          <th scope="col">Who</th>
          <th scope="col">There</th>
          <th scope="col">What is sent</th>
          {send && <th scope="col">By hand</th>}
        </tr>
      </thead>
      <tbody>
        {list.map((p) => (
          <tr key={p.person}>
            <th scope="row">
              <Link to={`/people/${encodeURIComponent(p.person)}`}>{p.name}</Link>
              {p.address && <span className="sub">{p.address}</span>}
            </th>
            <td>{{ not: 'not there', tried: 'may be there', kept: 'in use', closed: 'closed' }[p.kept]}</td>
            <td>
              {sent[p.do]}
              {p.why && <span className="sub">{p.why}</span>}
              {p.problem && <span className="sub gets-no">▼ not taken last: {p.problem}</span>}
            </td>
            {send && (
              <td>
                {!['same', 'left_out', 'braked'].includes(p.do) && (
                  <Button size="sm" variant="outline-primary" aria-label={`Send ${p.name} now`} onClick={() => send(p)}>
                    Now
                  </Button>
                )}
              </td>
            )}
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** Whether the connection works, whom they keep of ours, and who seems to be there twice. */
function Look({ f }: { f: FeedOut }) {
  const look = useMutation({ mutationFn: () => call('POST /api/v1/feeds-out/{partner}/look', { path: { partner: f.partner } }) })
  const x = look.data
  return (
    <section aria-labelledby="h-look">
      <h2 id="h-look">The connection</h2>
      <Button size="sm" variant="outline-primary" disabled={look.isPending} onClick={() => look.mutate()}>
        Test it
      </Button>
      {look.error && <Wrong error={look.error} />}
      <div role="status">
        {look.isPending && <Waiting what="Asking their server" />}
        {x && !x.well && (
          <p className="gets-no">
            ▼ It does not work: {x.problem} ({x.took_ms} ms). {x.advice}
          </p>
        )}
        {x?.well && (
          <p>
            ▲ It works ({x.took_ms} ms). They keep {x.there} users, {x.ours} of them with an address of ours.
            {!x.patch && ' Their server writes users whole: what others wrote there is lost.'}
          </p>
        )}
      </div>
      {x && x.unkept.length > 0 && (
        <>
          <h3>There, and not kept by the feed</h3>
          <ul className="domains">
            {x.unkept.map((u) => (
              <li key={u.id}>
                <span>
                  {u.name ?? u.user_name}{' '}
                  <span className="sub">
                    {u.user_name}, {u.active ? 'in use' : 'closed'}
                  </span>
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
      {x && x.twins.length > 0 && (
        <>
          <h3>There twice?</h3>
          <ul className="domains">
            {x.twins.map((t) => (
              <li key={t.fed + t.guest}>
                <span>
                  <b>{t.name}</b>: {t.fed} by the feed, and {t.guest}
                  <span className="sub">{t.differs.join('; ')}. Their administrator makes one of two.</span>
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  )
}

function SentLog({ f }: { f: FeedOut }) {
  const [wrong, setWrong] = useState(false)
  const [person, setPerson] = useState('')
  const log = useQuery({
    queryKey: ['feeds-out', f.partner, 'log', wrong, person, f.ended],
    queryFn: () =>
      call('GET /api/v1/feeds-out/{partner}/log', {
        path: { partner: f.partner },
        query: { wrong: wrong, person: person || undefined, limit: 20 },
      }),
  })
  const lines = log.data?.lines ?? []
  return (
    <section aria-labelledby="h-sent">
      <h2 id="h-sent">What was sent</h2>
      <div className="inline-form">
        <Form.Check id="fo-wrong" label="what went wrong alone" checked={wrong} onChange={(e) => setWrong(e.target.checked)} />
        {person && (
          <Button size="sm" variant="link" onClick={() => setPerson('')}>
            of {person} alone ✕
          </Button>
        )}
      </div>
      {log.error && <Wrong error={log.error} />}
      {log.data && lines.length === 0 && <Empty>{wrong ? 'Nothing went wrong.' : 'Nothing was sent yet.'}</Empty>}
      <Lines lines={lines} words={sent} picked={setPerson} />
    </section>
  )
}
