import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Session } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { NewSpace } from './SpaceForms'

/** Every space, and a new one. */
export function SpacesPage({ session }: { session: Session }) {
  const [q, setQ] = useState('')
  const [making, setMaking] = useState(false)
  const makes = session.role !== 'auditor' // members ask for it
  const spaces = useInfiniteQuery({
    queryKey: ['spaces', q],
    queryFn: ({ pageParam }) => call('GET /api/v1/spaces', { query: { q, cursor: pageParam } }),
    initialPageParam: '',
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (old) => old,
  })
  const list = spaces.data?.pages.flatMap((p) => p.spaces) ?? []
  return (
    <Page
      title="Spaces"
      lead="Where people share. See the values that each space sets, and how many outsiders have a role in it."
      tools={
        <>
          <Form.Control
            size="sm"
            type="search"
            aria-label="Find spaces"
            placeholder="name or id"
            value={q}
            onChange={(e) => setQ(e.target.value)}
          />
          {makes && (
            <Button size="sm" onClick={() => setMaking(true)}>
              New space
            </Button>
          )}
        </>
      }
    >
      {making && <NewSpace person={session.person} close={() => setMaking(false)} />}
      {spaces.error && <Wrong error={spaces.error} retry={() => void spaces.refetch()} />}
      {!spaces.data && !spaces.error && <Waiting what="Reading spaces" />}
      {spaces.data && list.length === 0 && (
        <Empty>
          {q
            ? `No space matches “${q}”.`
            : session.role !== 'member'
              ? 'There is no space yet. Make the first one with “New space”.'
              : 'You belong to no space yet.'}
        </Empty>
      )}
      {list.length > 0 && (
        <div className="wide" role="region" aria-label="All spaces" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Space</th>
                <th scope="col">Kind</th>
                <th scope="col">Owners</th>
                <th scope="col" className="num">
                  From outside
                </th>
                <th scope="col" className="num">
                  Items
                </th>
                <th scope="col" className="num">
                  Rules set
                </th>
              </tr>
            </thead>
            <tbody>
              {list.map((s) => (
                <tr key={s.id}>
                  <th scope="row">
                    <Link to={`/spaces/${s.id}`}>{s.name}</Link>
                    <code className="sub">{s.id}</code>
                  </th>
                  <td>{s.kind.replace('_', ' ')}</td>
                  <td>{s.owner_names.join(', ')}</td>
                  <td className="num">{s.outside}</td>
                  <td className="num">{s.items}</td>
                  <td className="num">{s.set || '–'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {spaces.hasNextPage && (
        <Button size="sm" variant="outline-primary" className="more" onClick={() => void spaces.fetchNextPage()}>
          More
        </Button>
      )}
    </Page>
  )
}
