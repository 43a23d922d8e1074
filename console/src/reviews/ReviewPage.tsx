import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, type ReviewsDone, failed } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { until, when } from '../parts/dates'
import { Progress, stateWords } from './words'
import { Answer, End, dos, type Do } from './ReviewForms'

/** One round: what it asks, who has not answered, and what was answered; many lines are answered at once. */
export function ReviewPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const refresh = useRefresh()
  const round = useQuery({ queryKey: ['reviews', id], queryFn: () => call('GET /api/v1/reviews/{id}', { path: { id } }) })
  const r = round.data
  const [which, setWhich] = useState<'mine' | 'open' | 'all'>(role === 'auditor' ? 'all' : 'mine')
  const shown = which === 'mine' && r && r.mine === 0 ? (r.open > 0 && role !== 'member' ? 'open' : 'all') : which
  const lines = useInfiniteQuery({
    queryKey: ['reviews', id, 'lines', shown],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      call('GET /api/v1/reviews/{id}/lines', {
        path: { id },
        query: { mine: shown === 'mine', state: shown === 'all' ? undefined : 'open', after: pageParam },
      }),
    getNextPageParam: (last) => last.next,
    enabled: r !== undefined,
  })
  const [chosen, setChosen] = useState<number[]>([])
  const [doing, setDoing] = useState<Do>()
  const [ending, setEnding] = useState(false)
  const [done, setDone] = useState<ReviewsDone>()
  if (failed(round)) return <Wrong error={round.error} retry={() => void round.refetch()} />
  if (!r) return <Waiting what="Reading" />
  const all = lines.data?.pages.flatMap((p) => p.lines) ?? []
  const open = all.filter((l) => l.state === 'open')
  const may = !r.closed && role !== 'auditor'
  const keeps = role === 'administrator' || role === 'keeper'
  return (
    <Page
      title={r.name}
      lead={`${r.about}; ${r.closed ? `over since ${when(r.closed)}` : `until ${until(r.until)}`}. Why: ${r.why}`}
      tools={
        keeps && !r.closed ? (
          <Button size="sm" variant="outline-secondary" onClick={() => setEnding(true)}>
            End it now
          </Button>
        ) : undefined
      }
    >
      <Progress r={r} />
      {r.closed && (
        <p className="quiet">
          Its lines are sealed as <code>{r.digest?.slice(0, 16)}…</code>.{' '}
          {r.evidence && keeps && (
            <>
              <Link to={`/evidence/${r.evidence}`}>The record of who reached what at its end</Link>
            </>
          )}
        </p>
      )}
      {!r.closed && role !== 'member' && r.waits.length > 0 && (
        <p className="quiet">
          It waits for{' '}
          {r.waits
            .slice(0, 8)
            .map((w) => `${w.name} (${w.lines})`)
            .join(', ')}
          {r.waits.length > 8 && ` and ${r.waits.length - 8} more`}.
        </p>
      )}
      <div className="inline-form review-bar">
        <Form.Select
          size="sm"
          aria-label="Which lines"
          value={shown}
          onChange={(e) => (setWhich(e.target.value as typeof which), setChosen([]))}
        >
          {role !== 'auditor' && <option value="mine">what it asks me</option>}
          {role !== 'member' && <option value="open">all that is not answered</option>}
          <option value="all">all lines</option>
        </Form.Select>
        {may && open.length > 0 && (
          <>
            <Form.Check
              id="rv-all"
              label={`all ${open.length}`}
              checked={chosen.length === open.length}
              onChange={(e) => setChosen(e.target.checked ? open.map((l) => l.n) : [])}
            />
            {(Object.keys(dos) as Do[]).map((d) => (
              <Button
                key={d}
                size="sm"
                variant={d === 'keep' ? 'primary' : d === 'end' ? 'outline-danger' : 'outline-primary'}
                disabled={chosen.length === 0}
                onClick={() => setDoing(d)}
              >
                {dos[d]}
              </Button>
            ))}
          </>
        )}
      </div>
      {done && (
        <p role="status">
          {done.done} answered
          {done.refused > 0 &&
            `, ${done.refused} not: ${[...new Set(done.lines.filter((l) => l.reason).map((l) => l.reason))].slice(0, 3).join('; ')}`}
          .
        </p>
      )}
      {lines.error && <Wrong error={lines.error} retry={() => void lines.refetch()} />}
      {lines.data && all.length === 0 && <Empty>{shown === 'mine' ? 'Nothing waits for you here.' : 'There is no such line.'}</Empty>}
      {all.length > 0 && (
        <ul className="review-lines">
          {all.map((l) => (
            <li key={l.n} className={`is-${l.state}`}>
              {may && l.state === 'open' ? (
                <Form.Check
                  aria-label={`Line ${l.n}: ${l.party_name ?? l.party} on ${l.name}`}
                  checked={chosen.includes(l.n)}
                  onChange={(e) => setChosen(e.target.checked ? [...chosen, l.n] : chosen.filter((n) => n !== l.n))}
                />
              ) : (
                <span />
              )}
              <div>
                <b>{l.party_name ?? l.party}</b> · {l.name}:{' '}
                {l.narrowed ? `${l.narrowed}${l.instead ? ` on ${l.instead_name ?? l.instead} alone` : ''}, was ${l.role}` : l.role}
                {l.bundle && ` (bundle ${l.bundle})`}
                <p className="quiet">
                  {[
                    l.party_name && l.party,
                    l.purpose,
                    l.last_seen && `last seen ${when(l.last_seen)}`,
                    l.opens && `may do ${l.opens} ${l.opens === 1 ? 'thing' : 'things'} with it`,
                    l.ends && `ends ${until(l.ends)}`,
                    `asked of ${l.reviewer_name}`,
                  ]
                    .filter(Boolean)
                    .join(' · ')}
                </p>
                {l.state !== 'open' && (
                  <p className="quiet">
                    {stateWords[l.state]}
                    {l.by && ` by ${l.by}`}
                    {l.at && `, ${when(l.at)}`}
                    {l.until && l.state === 'kept' && `; until ${until(l.until)}`}
                    {l.why && `: ${l.why}`}
                  </p>
                )}
              </div>
            </li>
          ))}
        </ul>
      )}
      {lines.hasNextPage && (
        <Button size="sm" variant="outline-primary" disabled={lines.isFetchingNextPage} onClick={() => void lines.fetchNextPage()}>
          More
        </Button>
      )}
      {doing && (
        <Answer
          id={id}
          what={doing}
          lines={chosen}
          close={() => setDoing(undefined)}
          done={(x) => {
            setDone(x)
            setChosen([])
            void refresh()
          }}
        />
      )}
      {ending && <End r={r} close={() => setEnding(false)} />}
    </Page>
  )
}
