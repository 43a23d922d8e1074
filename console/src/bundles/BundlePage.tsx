import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, failed } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { until, when } from '../parts/dates'
import { StoredChange } from '../places/PlaceDialog'
import { MakeBundle } from './MakeBundle'
import { approvedBy, whoseAsk } from './words'

/** One bundle: what it gives, what that would open for whom, and who holds it. */
export function BundlePage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const refresh = useRefresh()
  const [changing, setChanging] = useState(false)
  const [ending, setEnding] = useState('')
  const found = useQuery({ queryKey: ['bundles', id], queryFn: () => call('GET /api/v1/bundles/{id}', { path: { id } }) })
  const b = found.data
  const may = role === 'administrator' || role === 'keeper'
  if (failed(found)) return <Wrong error={found.error} retry={() => void found.refetch()} />
  if (!b) return <Waiting what="Reading" />
  const held = b.holdings ?? []
  return (
    <Page
      title={b.name}
      lead={`Asked for by ${whoseAsk(b)}; approved by ${approvedBy(b)}.`}
      tools={
        may ? (
          <Button size="sm" onClick={() => setChanging(true)}>
            Change it
          </Button>
        ) : undefined
      }
    >
      <dl className="facts">
        <div className="fact-pair">
          <dt>What it gives</dt>
          <dd>
            <ul className="plain-list">
              {b.gives.map((g) => (
                <li key={g.resource}>
                  {g.name}: {g.role}
                </li>
              ))}
            </ul>
          </dd>
        </div>
        <div className="fact-pair">
          <dt>For how long</dt>
          <dd>
            {b.term_days ? `at most ${b.term_days} days` : 'as long as the rules let'}; extended{' '}
            {b.extend === 'silent' ? 'by whoever holds it' : 'with the same approval'}
            {b.review_days ? `; confirmed every ${b.review_days} days` : ''}
          </dd>
        </div>
        {b.questions.length > 0 && (
          <div className="fact-pair">
            <dt>What is asked</dt>
            <dd>{b.questions.join(' ')}</dd>
          </div>
        )}
        {b.not_with.length > 0 && (
          <div className="fact-pair">
            <dt>Not beside</dt>
            <dd>{b.not_with.join(', ')}</dd>
          </div>
        )}
        {b.asked > 0 && (
          <div className="fact-pair">
            <dt>Asked for</dt>
            <dd>
              <Link to="/">{b.asked === 1 ? 'once, and not answered yet' : `${b.asked} times, and not answered yet`}</Link>
            </dd>
          </div>
        )}
      </dl>
      <section aria-labelledby="h-opens" className="apart">
        <h2 id="h-opens">What it would open</h2>
        {(b.opens ?? []).length === 0 && <Empty>Nobody may ask for it, so it opens nothing to anybody.</Empty>}
        {(b.opens ?? []).length > 0 && (
          <table className="table">
            <thead>
              <tr>
                <th scope="col">For a typical person of</th>
                <th scope="col" className="number">
                  Granted actions
                </th>
                <th scope="col" className="number">
                  That need no role
                </th>
                <th scope="col">But</th>
              </tr>
            </thead>
            <tbody>
              {(b.opens ?? []).map((o) => (
                <tr key={o.partner} className={o.shut ? 'is-off' : undefined}>
                  <th scope="row">{o.partner ? <Link to={`/partners/${o.partner}`}>{o.name}</Link> : 'no partner'}</th>
                  <td className="number">{o.granted}</td>
                  <td className="number">{o.wide}</td>
                  <td>{o.shut ? `It would not be given: ${o.shut}` : o.closed ? `Stays closed: ${o.closed.join(', ')}` : ''}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </section>
      <section aria-labelledby="h-held" className="apart">
        <h2 id="h-held">{b.held === 1 ? 'Held by one' : `Held by ${b.held}`}</h2>
        {held.length > 0 && (
          <table className="table">
            <thead>
              <tr>
                <th scope="col">Who</th>
                <th scope="col">Since</th>
                <th scope="col">Until</th>
                <th scope="col">Which gives</th>
                <th scope="col">Sponsor</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {held.map((h) => (
                <tr key={h.party}>
                  <th scope="row">
                    <Link to={`/guests/${encodeURIComponent(h.party)}`}>{h.party}</Link>
                  </th>
                  <td>{when(h.from)}</td>
                  <td>{h.until ? until(h.until) : 'no end'}</td>
                  <td>{h.gives.map((g) => `${g.name}: ${g.role}`).join(', ')}</td>
                  <td>{h.sponsor}</td>
                  <td>
                    {may && (
                      <Button size="sm" variant="outline-danger" onClick={() => setEnding(h.party)}>
                        End it
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {held.length < b.held && <p className="quiet">The first {held.length}; the list of holdings under Lists has all.</p>}
      </section>
      {ending && (
        <StoredChange
          danger
          title={`End ${b.name} for ${ending}`}
          leave="Leave it"
          submit="End it"
          done={`${ending} no longer holds ${b.name}`}
          to="POST /api/v1/holdings/end"
          body={{ address: ending, bundle: b.id }}
          close={() => setEnding('')}
        />
      )}
      {changing && <MakeBundle b={b} close={() => setChanging(false)} done={() => void refresh()} />}
    </Page>
  )
}
