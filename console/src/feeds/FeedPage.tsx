import { Empty, Page, Waiting, Wrong, when } from '../parts/bits'
import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, type Feed, failed } from '../api'
import { Lines } from './Lines'
import { braked, outcome, stateOf } from './words'
import { ChangeFeed, Apply, NewToken, WithWhy, EndFeed } from './FeedForms'

/** One partner's feed: how it stands, whom it tells of and what that does, what went wrong, and who is here twice. */
export function FeedPage({ role }: { role: string }) {
  const { partner = '' } = useParams()
  const feed = useQuery({ queryKey: ['feeds', partner], queryFn: () => call('GET /api/v1/feeds/{partner}', { path: { partner } }) })
  const [asking, setAsking] = useState<'change' | 'end' | 'token' | 'release' | 'apply'>()
  const f = feed.data
  const admin = role === 'administrator'
  if (failed(feed)) return <Wrong error={feed.error} retry={() => void feed.refetch()} />
  if (!f) return <Waiting what="Reading" />
  const state = stateOf(f)
  return (
    <Page
      title={`People feed of ${f.name}`}
      lead={
        <>
          {state.bad ? <b className="gets-no">▼ {state.text}</b> : state.text}; {f.all} people, {f.active} of them in use there
          {f.heard && <>, heard last {when(f.heard)}</>}. <Link to={`/partners/${f.partner}`}>The partner</Link>
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
                  [
                    'Address',
                    { either: 'userName where it is one, else the primary mail', userName: 'userName', emails: 'the primary mail' }[
                      f.address
                    ],
                  ],
                  [
                    'Name',
                    { any: 'displayName, else the parts of the name', displayName: 'displayName', name: 'the parts of the name' }[
                      f.name_from
                    ],
                  ],
                  [
                    'Before the first use',
                    f.silent
                      ? 'nobody is asked: both sides say so'
                      : f.consent
                        ? 'they are asked: their side skips it, ours does not (directory.consent)'
                        : 'they are asked',
                  ],
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
      {asking === 'release' && (
        <WithWhy
          f={f}
          title="Let the feed go on"
          submit="Let it go on"
          go={(why) => call('POST /api/v1/feeds/{partner}/release', { path: { partner }, body: { why } })}
          text={`It may close as many again as in a day: ${f.most ?? ''}.`}
          close={() => setAsking(undefined)}
        />
      )}
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
    queryFn: ({ pageParam }) =>
      call('GET /api/v1/feeds/{partner}/people', { path: { partner: f.partner }, query: { waiting, after: pageParam } }),
    getNextPageParam: (last) => last.next,
  })
  const all = people.data?.pages.flatMap((p) => p.people) ?? []
  return (
    <section aria-labelledby="h-told">
      <h2 id="h-told">Whom it tells of</h2>
      <div className="inline-form">
        {f.waiting > 0 && (
          <Form.Check
            id="fd-waiting"
            label={`those alone who wait (${f.waiting})`}
            checked={alone}
            onChange={(e) => setAlone(e.target.checked)}
          />
        )}
        {apply && (
          <Button size="sm" onClick={apply}>
            Bring them in
          </Button>
        )}
      </div>
      {people.error && <Wrong error={people.error} retry={() => void people.refetch()} />}
      {people.isLoading && <Waiting what="Reading whom it tells of" />}
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
                  {p.address && !['new', 'nobody', 'refused'].includes(p.would) ? (
                    <Link to={`/guests/${encodeURIComponent(p.address)}`}>{p.name || p.address}</Link>
                  ) : (
                    (p.name ?? p.address ?? p.user_name)
                  )}
                  {p.address && p.name && <span className="sub">{p.address}</span>}
                </th>
                <td>{p.active ? 'in use' : 'closed'}</td>
                <td>
                  <span className={p.would === 'refused' ? 'gets-no' : ''}>
                    {p.applied && p.would === 'same' ? 'is here' : outcome[p.would]}
                  </span>
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
  const log = useQuery({
    queryKey: ['feeds', f.partner, 'log', wrong],
    queryFn: () => call('GET /api/v1/feeds/{partner}/log', { path: { partner: f.partner }, query: { wrong: wrong, limit: 20 } }),
  })
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
  const list = useQuery({
    queryKey: ['feeds', f.partner, 'twins'],
    queryFn: () => call('GET /api/v1/feeds/{partner}/twins', { path: { partner: f.partner } }),
  })
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
            <Link
              className="btn btn-sm btn-outline-primary"
              to={`/guests/${encodeURIComponent(t.fed)}?merge=${encodeURIComponent(t.guest)}`}
            >
              Make them one
            </Link>
          </li>
        ))}
      </ul>
    </section>
  )
}
