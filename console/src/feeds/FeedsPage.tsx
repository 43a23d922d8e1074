import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type FeedToken } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Empty, next, Page, Waiting, when, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { Combo } from '../parts/Combo'
import { BeginOut } from './FeedOutForms'
import { outState, stateOf } from './words'

/** People feeds: partners that keep their people in our directory, and partners in whose directories we keep ours. */
export function FeedsPage({ role }: { role: string }) {
  const [beginning, setBeginning] = useState<'in' | 'out'>()
  const into = useQuery({ queryKey: ['feeds'], queryFn: () => call('GET /api/v1/feeds') })
  const out = useQuery({ queryKey: ['feeds-out'], queryFn: () => call('GET /api/v1/feeds-out') })
  const admin = role === 'administrator'
  return (
    <Page
      title="People feeds"
      lead="Where two organisations work together daily, their systems tell each other who joins and who leaves, and nobody has to remember."
    >
      <section aria-labelledby="h-in" className="feeds">
        <h2 id="h-in">In: their people in our directory</h2>
        {into.error && <Wrong error={into.error} retry={() => void into.refetch()} />}
        {!into.data && !into.error && <Waiting what="Reading" />}
        {into.data && into.data.feeds.length === 0 && <Empty>No partner keeps its people here yet. It pays where many come and go.</Empty>}
        {into.data && into.data.feeds.length > 0 && (
          <table className="table">
            <thead>
              <tr>
                <th scope="col">Partner</th>
                <th scope="col">State</th>
                <th scope="col" className="num">
                  People
                </th>
                <th scope="col" className="num">
                  In use
                </th>
                <th scope="col" className="num">
                  Wait
                </th>
                <th scope="col" className="num">
                  Refused lately
                </th>
                <th scope="col">Heard last</th>
              </tr>
            </thead>
            <tbody>
              {into.data.feeds.map((f) => (
                <tr key={f.partner}>
                  <th scope="row">
                    <Link to={`/feeds/${f.partner}`}>{f.name}</Link>
                  </th>
                  <td>
                    <State of={stateOf(f)} />
                  </td>
                  <td className="num">{f.all}</td>
                  <td className="num">{f.active}</td>
                  <td className="num">{f.waiting}</td>
                  <td className="num">{f.wrong}</td>
                  <td>{f.heard ? when(f.heard) : 'never'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {admin && (
          <Button size="sm" variant="outline-primary" onClick={() => setBeginning('in')}>
            Let a partner keep its people here
          </Button>
        )}
      </section>
      <section aria-labelledby="h-out" className="feeds">
        <h2 id="h-out">Out: our people in their directories</h2>
        {out.error && <Wrong error={out.error} retry={() => void out.refetch()} />}
        {out.data && out.data.feeds.length === 0 && <Empty>Nobody of ours is kept at a partner by a feed.</Empty>}
        {out.data && out.data.feeds.length > 0 && (
          <table className="table">
            <thead>
              <tr>
                <th scope="col">Partner</th>
                <th scope="col">State</th>
                <th scope="col" className="num">
                  Kept there
                </th>
                <th scope="col" className="num">
                  Closed there
                </th>
                <th scope="col" className="num">
                  Not taken
                </th>
                <th scope="col">Sent last</th>
                <th scope="col">Sent next</th>
              </tr>
            </thead>
            <tbody>
              {out.data.feeds.map((f) => (
                <tr key={f.partner}>
                  <th scope="row">
                    <Link to={`/feeds/out/${f.partner}`}>{f.name}</Link>
                  </th>
                  <td>
                    <State of={outState(f)} />
                  </td>
                  <td className="num">{f.kept}</td>
                  <td className="num">{f.closed}</td>
                  <td className="num">{f.failing}</td>
                  <td>{f.ended ? when(f.ended) : f.began ? 'now' : 'never'}</td>
                  <td>{f.next ? next(f.next) : 'by hand'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {admin && (
          <Button size="sm" variant="outline-primary" onClick={() => setBeginning('out')}>
            Keep people of ours at a partner
          </Button>
        )}
      </section>
      {beginning === 'in' && <BeginFeed close={() => setBeginning(undefined)} />}
      {beginning === 'out' && <BeginOut close={() => setBeginning(undefined)} />}
    </Page>
  )
}

export function State({ of }: { of: { text: string; bad: boolean } }) {
  return <span className={of.bad ? 'gets-no' : ''}>{of.bad ? `▼ ${of.text}` : of.text}</span>
}

export function BeginFeed({ close, partner: at }: { close: () => void; partner?: string }) {
  const refresh = useRefresh()
  const [partner, setPartner] = useState(at ?? '')
  const [sponsor, setSponsor] = useState('')
  const [why, setWhy] = useState('')
  const begin = useMutation({
    mutationFn: () =>
      call('POST /api/v1/feeds', {
        body: {
          partner: partner.trim().replace(/^partner:/, ''),
          ...(sponsor.trim() ? { sponsor: sponsor.trim().replace(/^person:/, '') } : {}),
          why: why.trim(),
        },
      }),
    onSuccess: () => void refresh(),
  })
  if (begin.data) return <TokenTold x={begin.data} close={close} />
  return (
    <AskDialog
      title="Begin a people feed"
      leave="Cancel"
      submit="Begin it"
      disabled={begin.isPending || partner.trim() === '' || why.trim() === ''}
      error={begin.error}
      close={close}
      onSubmit={() => begin.mutate()}
    >
      <p>It is watched at first: whom it tells of is shown, and no record is touched until you say so.</p>
      {!at && (
        <div className="plain-combo mb-2">
          <Combo label="Partner" kind="partner" value={partner} onChange={setPartner} />
        </div>
      )}
      <div className="plain-combo mb-2">
        <Combo label="Who answers for those who come (may be nobody)" kind="person" value={sponsor} onChange={setSponsor} />
      </div>
      <Form.Group controlId="fd-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

/** The token of a feed, which is told once. */
export function TokenTold({ x, close }: { x: FeedToken; close: () => void }) {
  const [copied, setCopied] = useState(false)
  return (
    <AskDialog
      title={`For ${x.feed.name}`}
      leave="Close"
      submit={copied ? 'Copied' : 'Copy the token'}
      disabled={false}
      error={undefined}
      close={close}
      onSubmit={() => void navigator.clipboard?.writeText(x.token).then(() => setCopied(true))}
    >
      <p>Their administrator enters both in their own system. The token is shown this once; tell it over a safe way.</p>
      <dl className="said">
        <div>
          <dt>Address (SCIM 2.0)</dt>
          <dd>
            <code>{x.feed.url}</code>
          </dd>
        </div>
        <div>
          <dt>Token</dt>
          <dd>
            <code className="long-code">{x.token}</code>
          </dd>
        </div>
      </dl>
      {x.feed.shut && <p className="gets-no">▼ Nobody comes in yet. {x.feed.shut}</p>}
    </AskDialog>
  )
}
