import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Feed, type FeedToken } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { Combo } from '../parts/Combo'
import { stateOf } from './words'

/** People feeds: partners that keep their people in our directory. */
export function FeedsPage({ role }: { role: string }) {
  const [beginning, setBeginning] = useState(false)
  const list = useQuery({ queryKey: ['feeds'], queryFn: () => call<{ feeds: Feed[] }>('GET', '/api/v1/feeds') })
  const all = list.data?.feeds ?? []
  return (
    <Page
      title="People feeds"
      lead="Partners whose own system keeps their people in our directory: who joins there comes here, who leaves there is suspended here, and nobody has to remember."
      tools={
        role === 'administrator' ? (
          <Button size="sm" onClick={() => setBeginning(true)}>
            Begin a feed
          </Button>
        ) : undefined
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading" />}
      {list.data && all.length === 0 && <Empty>No partner keeps its people here yet. It pays where many come and go.</Empty>}
      {all.length > 0 && (
        <table className="table">
          <thead>
            <tr>
              <th scope="col">Partner</th>
              <th scope="col">State</th>
              <th scope="col" className="num">People</th>
              <th scope="col" className="num">In use</th>
              <th scope="col" className="num">Wait</th>
              <th scope="col" className="num">Refused lately</th>
              <th scope="col">Heard last</th>
            </tr>
          </thead>
          <tbody>
            {all.map((f) => (
              <tr key={f.partner}>
                <th scope="row">
                  <Link to={`/feeds/${f.partner}`}>{f.name}</Link>
                </th>
                <td>
                  <span className={stateOf(f).bad ? 'gets-no' : ''}>{stateOf(f).bad ? `▼ ${stateOf(f).text}` : stateOf(f).text}</span>
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
      {beginning && <BeginFeed close={() => setBeginning(false)} />}
    </Page>
  )
}

function BeginFeed({ close }: { close: () => void }) {
  const refresh = useRefresh()
  const [partner, setPartner] = useState('')
  const [sponsor, setSponsor] = useState('')
  const [why, setWhy] = useState('')
  const begin = useMutation({
    mutationFn: () => call<FeedToken>('POST', '/api/v1/feeds', { partner: partner.trim().replace(/^partner:/, ''), ...(sponsor.trim() ? { sponsor: sponsor.trim().replace(/^person:/, '') } : {}), why: why.trim() }),
    onSuccess: () => void refresh(),
  })
  if (begin.data) return <TokenTold x={begin.data} close={close} />
  return (
    <AskDialog title="Begin a people feed" leave="Cancel" submit="Begin it" disabled={begin.isPending || partner.trim() === '' || why.trim() === ''} error={begin.error} close={close} onSubmit={() => begin.mutate()}>
      <p>It is watched at first: whom it tells of is shown, and no record is touched until you say so.</p>
      <div className="plain-combo mb-2">
        <Combo label="Partner" kind="partner" value={partner} onChange={setPartner} />
      </div>
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
    <AskDialog title={`For ${x.feed.name}`} leave="Close" submit={copied ? 'Copied' : 'Copy the token'} disabled={false} error={undefined} close={close} onSubmit={() => void navigator.clipboard?.writeText(x.token).then(() => setCopied(true))}>
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
