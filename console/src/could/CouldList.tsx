import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, query } from '../api'
import { Empty, Waiting, Wrong } from '../parts/bits'
import { groupsOf } from './words'

/** Now, or what could come to be: beside every reach and audience. */
export function NowOrCould({ could, choose }: { could: boolean; choose: (could: boolean) => void }) {
  return (
    <div className="accounts" role="group" aria-label="Now or what could come to be">
      <button type="button" className="account" aria-pressed={!could} onClick={() => choose(false)}>
        Now
      </button>
      <button type="button" className="account" aria-pressed={could} onClick={() => choose(true)}>
        What could come to be
      </button>
    </div>
  )
}

/** What somebody could come to do, or who could come to do something with a resource, without an administrator or keeper. */
export function CouldList({ who, resource }: { who?: string; resource?: string }) {
  const found = useInfiniteQuery({
    queryKey: ['could', who, resource],
    initialPageParam: '',
    queryFn: ({ pageParam }) => call('GET /api/v1/could', { query: { who, resource, limit: 200, cursor: pageParam } }),
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: keepPreviousData,
  })
  const first = found.data?.pages[0]
  if (found.error) return <Wrong error={found.error} retry={() => void found.refetch()} />
  if (!first) return <Waiting what="Looking for what members and guests could bring about" />
  const lines = found.data?.pages.flatMap((p) => p.lines) ?? []
  const groups = groupsOf(lines, who ? 'resource' : 'who')
  return (
    <>
      <p className="figures" role="status">
        <b>{(first.could - first.now).toLocaleString('en-GB')}</b> more {first.could - first.now === 1 ? 'answer' : 'answers'} could become
        yes without an administrator or keeper; <b>{first.now.toLocaleString('en-GB')}</b> {first.now === 1 ? 'is' : 'are'} yes now.
        {resource && (
          <>
            {' '}
            Known guests and others: <b>{first.parties_now}</b> may now, <b>{first.parties_could}</b> could.
          </>
        )}
      </p>
      <p className="quiet">
        Counted is what owners, hosts, members and guests may do themselves: inviting, sharing, making links, joining, and setting what is
        theirs as far as limits let them.
      </p>
      {groups.length === 0 && <Empty>Nothing more could come to be.</Empty>}
      {groups.length > 0 && (
        <div className="wide" role="region" aria-label="What could come to be" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">{who ? 'Kind' : 'Who'}</th>
                <th scope="col">What</th>
                <th scope="col">Could</th>
                <th scope="col">
                  <span className="visually-hidden">How</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {groups.map((g) =>
                g.rows.map((r, i) => (
                  <tr key={g.key + r.key} className={`${g.newcomer ? 'is-newcomer' : ''} ${i > 0 ? 'is-again' : ''}`}>
                    {i === 0 && (
                      <th scope="rowgroup" rowSpan={g.rows.length}>
                        {g.head}
                        {g.sub && <span className="sub">{g.sub}</span>}
                      </th>
                    )}
                    <td>
                      {r.name}
                      <span className="sub">{r.resource}</span>
                    </td>
                    <td>{r.verbs.join(', ')}</td>
                    <td>
                      {!r.resource.endsWith('*') && (
                        <Link to={`/could${query({ who: r.who, action: r.first, resource: r.resource })}`}>How</Link>
                      )}
                    </td>
                  </tr>
                )),
              )}
            </tbody>
          </table>
        </div>
      )}
      {found.hasNextPage && (
        <Button
          size="sm"
          variant="outline-primary"
          className="more"
          onClick={() => void found.fetchNextPage()}
          disabled={found.isFetchingNextPage}
        >
          More ({(first.total - lines.length).toLocaleString('en-GB')} left)
        </Button>
      )}
    </>
  )
}
