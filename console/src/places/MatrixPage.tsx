import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Session } from '../api'
import { Make } from '../exceptions/MakeException'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

/** Our people against what they may do with outsiders: what counts, where it comes from, and a change of many at once. */
export function MatrixPage({ session }: { session: Session }) {
  const refresh = useRefresh()
  const [q, setQ] = useState('')
  const [picked, setPicked] = useState<string[]>([])
  const [setting, setSetting] = useState<string>()
  const pages = useInfiniteQuery({
    queryKey: ['matrix', q],
    queryFn: ({ pageParam }) => call('GET /api/v1/people/matrix', { query: { q, cursor: pageParam } }),
    initialPageParam: '',
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (old) => old,
  })
  const rules = pages.data?.pages[0]?.rules ?? []
  const people = pages.data?.pages.flatMap((p) => p.people) ?? []
  const edit = session.role === 'administrator'
  const all = people.length > 0 && people.every((p) => picked.includes(p.id))
  return (
    <Page
      title="What people may do"
      lead="Chat and mail with outsiders, person by person: the value that counts towards everybody. Marked values come from an exception; the others from the organisation."
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
          {edit && (
            <Button size="sm" disabled={picked.length === 0} onClick={() => setSetting('')}>
              {picked.length === 0
                ? 'Tick whom to set a value for'
                : `Set for ${picked.length === 1 ? '1 person' : `${picked.length} people`}`}
            </Button>
          )}
        </>
      }
    >
      {pages.error && <Wrong error={pages.error} retry={() => void pages.refetch()} />}
      {!pages.data && !pages.error && <Waiting what="Reading people" />}
      {pages.data && people.length === 0 && (
        <Empty>{q ? `Nobody matches “${q}”.` : 'There is nobody yet. Add the first person under People.'}</Empty>
      )}
      {people.length > 0 && (
        <div className="wide" role="region" aria-label="People against rules" tabIndex={0}>
          <table className="table listing matrix">
            <thead>
              <tr>
                {edit && (
                  <th scope="col">
                    <Form.Check
                      aria-label="Pick all that are shown"
                      checked={all}
                      onChange={() => setPicked(all ? [] : people.map((p) => p.id))}
                    />
                  </th>
                )}
                <th scope="col">Person</th>
                {rules.map((r) => (
                  <th key={r.rule} scope="col" title={r.rule}>
                    {r.title}
                    <span className="sub">default {r.default}</span>
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {people.map((p) => (
                <tr key={p.id}>
                  {edit && (
                    <td>
                      <Form.Check
                        aria-label={`Pick ${p.name || p.id}`}
                        checked={picked.includes(p.id)}
                        onChange={(e) => setPicked(e.target.checked ? [...picked, p.id] : picked.filter((x) => x !== p.id))}
                      />
                    </td>
                  )}
                  <th scope="row">
                    <Link to={`/people/${p.id}`}>{p.name || p.id}</Link>
                  </th>
                  {p.values.map((v, i) => (
                    <td key={rules[i]?.rule ?? i} className={v.own ? 'is-own' : 'quiet-cell'}>
                      {v.own ? '◆ ' : ''}
                      {v.value}
                      {v.own && <span className="sub">by an exception</span>}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {pages.hasNextPage && (
        <Button size="sm" variant="outline-primary" className="more" onClick={() => void pages.fetchNextPage()}>
          More
        </Button>
      )}
      <p className="quiet">◆ set by an exception for the person or a group of theirs</p>
      {setting !== undefined && (
        <Make
          person=""
          people={picked}
          close={() => setSetting(undefined)}
          done={() => {
            setPicked([])
            void refresh()
          }}
        />
      )}
    </Page>
  )
}
