import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { saidOf } from '../journal/words'
import { Link } from 'react-router'
import { call } from '../api'
import { until, when, Wrong } from '../parts/bits'

export function People({ id }: { id: string }) {
  const [q, setQ] = useState('')
  const pages = useInfiniteQuery({
    queryKey: ['people-of', id, q],
    queryFn: ({ pageParam }) =>
      call('GET /api/v1/partners/{id}/people', { path: { id }, query: { q, cursor: pageParam, limit: pageParam ? 100 : 12 } }),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (old) => old,
  })
  const people = { error: pages.error, data: pages.data && { people: pages.data.pages.flatMap((p) => p.people) } }
  return (
    <section aria-labelledby="h-people">
      <h2 id="h-people">Their people</h2>
      <Form.Control
        size="sm"
        type="search"
        className="mb-2"
        aria-label="Find one of their people"
        placeholder="Find by name or address"
        value={q}
        onChange={(e) => setQ(e.target.value)}
      />
      {people.error && <Wrong error={people.error} />}
      {people.data && people.data.people.length === 0 && (
        <p className="quiet">{q ? `Nobody matches “${q}”.` : 'Nobody of theirs has a record or a role here.'}</p>
      )}
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
        <Link to={`/guests?partner=${id}`}>Their records and when each ends</Link> ·{' '}
        <Link to={`/due?partner=${id}&until=%2B90d`}>what is due of them</Link>
      </p>
    </section>
  )
}

export function History({ id }: { id: string }) {
  const pages = useInfiniteQuery({
    queryKey: ['journal', 'partner', id],
    queryFn: ({ pageParam }) =>
      call('GET /api/v1/journal', { query: { kind: 'partner', id, cursor: pageParam, limit: pageParam ? 50 : 5 } }),
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
