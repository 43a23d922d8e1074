import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type ToldEvent } from '../api'
import { when, Wrong } from '../parts/bits'

const kinds: Record<ToldEvent['kind'], string> = {
  disabled: 'account disabled',
  enabled: 'account enabled',
  purged: 'account gone for good',
  identifier_changed: 'another address',
  session_revoked: 'session revoked',
  verification: 'to see whether it works',
  other: 'something else',
}
const results: Record<ToldEvent['result'], string> = {
  done: 'done',
  late: 'late: something newer was told before',
  nobody: 'nobody of that address is here',
  nothing: 'changes nothing',
}

/** What a partner's systems told of their people, each event once. */
export function Told({ id, role }: { id: string; role: string }) {
  const listen = useQuery({
    queryKey: ['webhooks'],
    queryFn: () => call('GET /api/v1/webhooks'),
    enabled: role === 'administrator' || role === 'auditor',
  })
  const pages = useInfiniteQuery({
    queryKey: ['told', id],
    queryFn: ({ pageParam }) => call('GET /api/v1/partners/{id}/told', { path: { id }, query: { before: pageParam, limit: 10 } }),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })
  const events = pages.data?.pages.flatMap((p) => p.events) ?? []
  return (
    <section aria-labelledby="h-told">
      <h2 id="h-told">What they told of their people</h2>
      {pages.error && <Wrong error={pages.error} />}
      {pages.data && events.length === 0 && (
        <p className="quiet">
          Nothing yet. Their systems may push events of accounts to <code>{pages.data.pages[0].url}</code>, signed with the keys of their
          statement.
        </p>
      )}
      <ul className="domains">
        {events.map((e) => (
          <li key={e.n}>
            <span>
              <b>{kinds[e.kind]}</b> {e.address && <Link to={`/guests/${encodeURIComponent(e.address)}`}>{e.address}</Link>}{' '}
              <span className="quiet">{when(e.happened)}</span>
              <span className="sub">
                {results[e.result]}
                {e.detail && !e.detail.startsWith('http') && `: ${e.detail}`}
              </span>
            </span>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <Button size="sm" variant="link" onClick={() => void pages.fetchNextPage()}>
          Earlier
        </Button>
      )}
      {(listen.data?.webhooks ?? [])
        .filter((w) => w.partner === id)
        .map((w) => (
          <p key={w.id} className={w.problem ? 'gets-no' : ''}>
            {w.problem ? '▼ ' : ''}They are told of accounts of our people, at <code>{w.address}</code>: {w.count} told
            {w.sent && `, last ${when(w.sent)}`}.{w.problem && ` It does not go on: ${w.problem}`}
          </p>
        ))}
    </section>
  )
}
