import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query'
import { Alert, Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, query, type DueStep } from '../api'
import { kindWords, marks } from '../guests/words'
import { Empty, Page, until as untilText, Waiting, Wrong } from '../parts/bits'

const spans: Record<string, string> = { '+7d': 'a week', '+30d': '30 days', '+90d': '90 days', '+365d': 'a year' }

/** What ends, when, why, and what follows from it, day by day. */
export function DuePage() {
  const [params, setParams] = useSearchParams()
  const span = params.get('until') ?? '+30d'
  const partner = params.get('partner') ?? ''
  const who = params.get('who') ?? ''
  const set = (k: string, v: string) => {
    const next = new URLSearchParams(params)
    if (v) next.set(k, v)
    else next.delete(k)
    setParams(next)
  }
  const due = useInfiniteQuery({
    queryKey: ['due', span, partner, who],
    initialPageParam: '',
    queryFn: ({ pageParam }) => call('GET /api/v1/due', { query: { until: span, partner, who, limit: 200, cursor: pageParam } }),
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: keepPreviousData,
  })
  const first = due.data?.pages[0]
  const steps = due.data?.pages.flatMap((p) => p.steps) ?? []
  const days: { day: string; steps: DueStep[] }[] = []
  for (const s of steps) {
    const day = untilText(s.at).split(',')[0]
    if (days.at(-1)?.day === day) days.at(-1)!.steps.push(s)
    else days.push({ day, steps: [s] })
  }
  const most = Math.max(1, ...days.map((d) => d.steps.length))
  return (
    <Page
      title={who ? `What is due: ${who}` : 'What is due'}
      lead="What ends on which day, why, and what happens next. The day shown is the last day of access."
      tools={
        <>
          <Form.Select size="sm" aria-label="Within" value={span} onChange={(e) => set('until', e.target.value)}>
            {Object.entries(spans).map(([v, w]) => (
              <option key={v} value={v}>
                within {w}
              </option>
            ))}
          </Form.Select>
          {(partner || who) && (
            <Button size="sm" variant="outline-secondary" onClick={() => setParams({ until: span })}>
              Everybody
            </Button>
          )}
        </>
      }
    >
      {due.error && <Wrong error={due.error} retry={() => void due.refetch()} />}
      {due.isLoading && <Waiting what="Looking ahead" />}
      {first?.behind && <Alert variant="warning">{first.behind}</Alert>}
      {first && first.total === 0 && <Empty>Nothing is due.</Empty>}
      {first && first.total > 0 && (
        <p className="figures" role="status">
          {Object.entries(first.kinds)
            .map(([k, n]) => `${marks[k as DueStep['kind']]} ${n} ${kindWords[k as DueStep['kind']]}`)
            .join(' · ')}
        </p>
      )}
      <ol className="due">
        {days.map((d) => (
          <li key={d.day}>
            <h2>
              {d.day} <span className="due-tally" style={{ width: `${(6 * d.steps.length) / most}rem` }} aria-hidden="true" />{' '}
              <span className="quiet">{d.steps.length}</span>
            </h2>
            <ul>
              {d.steps.map((s, i) => (
                <li key={i} className={`is-${s.kind}`}>
                  <span className="due-mark" aria-hidden="true">
                    {marks[s.kind]}
                  </span>
                  <span>
                    <Link to={`/guests/${encodeURIComponent(s.party)}`}>{s.name || s.party}</Link>
                    {s.partner && (
                      <>
                        {' '}
                        <Link className="quiet" to={`/due${query({ until: '+365d', partner: s.partner })}`}>
                          {s.partner}
                        </Link>
                      </>
                    )}
                    : {s.what}
                    {s.resource_name || s.resource ? `, ${s.role} on ${s.resource_name || s.resource}` : ''}{' '}
                    <span className="quiet">({s.because})</span>
                  </span>
                </li>
              ))}
            </ul>
          </li>
        ))}
      </ol>
      {due.hasNextPage && (
        <Button size="sm" variant="outline-primary" disabled={due.isFetchingNextPage} onClick={() => void due.fetchNextPage()}>
          Later
        </Button>
      )}
    </Page>
  )
}
