import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Session } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { PersonDialog } from './PersonForms'

/** Every person of ours, and a new one. */
export function PeoplePage({ session }: { session: Session }) {
  const [q, setQ] = useState('')
  const [making, setMaking] = useState(false)
  const makes = session.role === 'administrator' || session.role === 'keeper'
  const people = useInfiniteQuery({
    queryKey: ['people', q],
    queryFn: ({ pageParam }) => call('GET /api/v1/people', { query: { q, cursor: pageParam } }),
    initialPageParam: '',
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (old) => old,
  })
  const list = people.data?.pages.flatMap((p) => p.people) ?? []
  return (
    <Page
      title="People"
      lead="Our own people: the exceptions and forwarders they have, and who outside can reach them."
      tools={
        <>
          <Form.Control
            size="sm"
            type="search"
            aria-label="Find people"
            placeholder="name or id"
            value={q}
            onChange={(e) => setQ(e.target.value)}
          />
          {makes && (
            <Button size="sm" onClick={() => setMaking(true)}>
              New person
            </Button>
          )}
        </>
      }
    >
      {making && <PersonDialog admin={session.role === 'administrator'} close={() => setMaking(false)} />}
      {people.error && <Wrong error={people.error} retry={() => void people.refetch()} />}
      {!people.data && !people.error && <Waiting what="Reading people" />}
      {people.data && list.length === 0 && (
        <Empty>{q ? `Nobody matches “${q}”.` : 'There is nobody yet. Add the first person with “New person”, or take in a list.'}</Empty>
      )}
      {list.length > 0 && (
        <div className="wide" role="region" aria-label="All people" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Person</th>
                <th scope="col">Groups</th>
                <th scope="col">Roles</th>
                <th scope="col" className="num">
                  Exceptions in force
                </th>
              </tr>
            </thead>
            <tbody>
              {list.map((p) => (
                <tr key={p.id}>
                  <th scope="row">
                    <Link to={`/people/${p.id}`}>{p.name}</Link>
                    <span className="sub">{p.address ?? p.id}</span>
                  </th>
                  <td>{p.groups.join(', ')}</td>
                  <td>{p.roles.join(', ')}</td>
                  <td className="num">{p.exceptions || '–'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {people.hasNextPage && (
        <Button size="sm" variant="outline-primary" className="more" onClick={() => void people.fetchNextPage()}>
          More
        </Button>
      )}
    </Page>
  )
}
