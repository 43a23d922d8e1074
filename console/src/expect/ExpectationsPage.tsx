import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Expectation, failed } from '../api'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { MakeExpectation } from './MakeExpectation'
import { ahead, Stands } from './words'

/** What must stay true of access, all at a glance: what is broken first. */
export function ExpectationsPage({ role }: { role: string }) {
  const refresh = useRefresh()
  const [making, setMaking] = useState(false)
  const list = useQuery({ queryKey: ['expectations'], queryFn: () => call('GET /api/v1/expectations') })
  const may = role === 'administrator' || role === 'keeper'
  const all = list.data?.expectations ?? []
  const order = { broken: 0, unknown: 1, held: 2 }
  const sorted = [...all].sort((a, b) => order[a.state] - order[b.state] || a.id.localeCompare(b.id))
  const broken = all.filter((x) => x.state === 'broken').length
  return (
    <Page
      title="Expectations"
      lead="What must stay true of access. Each is judged after every change and for the next 30 days; a draft that would break one is not published without a reason."
      tools={
        may ? (
          <Button size="sm" onClick={() => setMaking(true)}>
            Expect something
          </Button>
        ) : undefined
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Judging" />}
      {list.data && all.length > 0 && (
        <p className="expect-sum" role="status">
          {broken === 0 ? `All ${all.length} are so.` : `${broken} of ${all.length} ${broken === 1 ? 'is' : 'are'} broken.`}{' '}
          <span className="quiet">Judged {when(list.data.at)}.</span>
        </p>
      )}
      {list.data && all.length === 0 && (
        <Empty>Nothing is expected yet. Take one of those that are proposed, or say what must never happen.</Empty>
      )}
      {all.length > 0 && (
        <ul className="expectations">
          {sorted.map((x) => (
            <li key={x.id} className={`is-${x.state}`}>
              <Stands x={x} />
              <div>
                <Link to={`/expectations/${x.id}`}>{x.says}</Link>
                <p className="quiet">
                  {[
                    x.state === 'broken'
                      ? x.expect.sort === 'at_most'
                        ? ''
                        : `${x.count} ${x.count === 1 ? 'time' : 'times'}, ${x.parties} ${x.parties === 1 ? 'party' : 'parties'}`
                      : '',
                    `${x.may} may now`,
                    x.since ? `since ${when(x.since)}` : '',
                    x.owner ?? '',
                    x.reason ?? '',
                  ]
                    .filter((t) => t !== '')
                    .join(' · ')}
                </p>
                {x.state === 'broken' && x.broken_by && !ahead(x) && <p>Broken by {x.broken_by.text}.</p>}
                {x.state === 'unknown' && <p>{x.unknown}</p>}
              </div>
            </li>
          ))}
        </ul>
      )}
      {may && <Proposed done={() => void refresh()} />}
      {making && <MakeExpectation close={() => setMaking(false)} done={() => void refresh()} />}
    </Page>
  )
}

/** What might be expected, from what is there. */
function Proposed({ done }: { done: () => void }) {
  const list = useQuery({ queryKey: ['expectations', 'proposed'], queryFn: () => call('GET /api/v1/expectations/proposed') })
  const take = useMutation({
    mutationFn: (x: Expectation) =>
      call('POST /api/v1/expectations', {
        body: {
          id: x.id,
          party: x.party,
          action: x.action,
          resource: x.resource,
          expect: x.expect,
          ...(x.owner ? { owner: x.owner } : {}),
          ...(x.reason ? { reason: x.reason } : {}),
          why: 'proposed, and so today',
        },
      }),
    onSuccess: done,
  })
  const all = list.data?.expectations ?? []
  if (failed(list)) return <Wrong error={list.error} />
  if (!list.data) return <Waiting what="Looking for what might be expected" />
  if (all.length === 0) return null
  return (
    <section aria-labelledby="h-proposed">
      <h2 id="h-proposed">Proposed</h2>
      <p className="quiet">Each of these is so today. Take it, and you hear when it no longer is.</p>
      {take.error && <Wrong error={take.error} />}
      <ul className="expectations is-proposed">
        {all.map((x) => (
          <li key={x.id}>
            <Button
              size="sm"
              variant="outline-primary"
              disabled={take.isPending}
              aria-label={`Expect it: ${x.says}`}
              onClick={() => take.mutate(x)}
            >
              Expect it
            </Button>
            <div>
              {x.says}
              <p className="quiet">{x.reason}</p>
            </div>
          </li>
        ))}
      </ul>
    </section>
  )
}
