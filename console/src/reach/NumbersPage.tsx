import { again, Behind } from '../findings/FindingList'
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, query, type Numbered } from '../api'
import { WideTable } from '../drafts/ImpactTables'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { StatedLine, TimeLine } from './time'

const n = (x: number) => x.toLocaleString('en-GB')
const filters = ['action', 'kind', 'partner', 'space'] as const

/** A list of numbers with bars; each leads to what it counts. */
function Ledger({ title, rows, to, most = 10 }: { title: string; rows: Numbered[]; to: (key: string) => string; most?: number }) {
  const widest = Math.max(1, ...rows.map((r) => r.granted))
  return (
    <section className="ledger" aria-label={title}>
      <h2>{title}</h2>
      {rows.length === 0 && <p className="quiet">None.</p>}
      <ol>
        {rows.slice(0, most).map((r) => (
          <li key={r.key}>
            <Link to={to(r.key)}>{r.name || r.key}</Link>
            <span className="ledger-bar" style={{ width: r.granted ? `max(2px, ${(100 * r.granted) / widest}%)` : 0 }} aria-hidden="true" />
            <span className="ledger-number">
              {n(r.granted)}
              {r.reaching !== undefined && (
                <span className="sub">
                  {' '}
                  {n(r.reaching)} of {n(r.parties ?? 0)} parties
                </span>
              )}
            </span>
          </li>
        ))}
      </ol>
      {rows.length > most && (
        <details>
          <summary>{n(rows.length - most)} more</summary>
          <ol>
            {rows.slice(most, 1000).map((r) => (
              <li key={r.key}>
                <Link to={to(r.key)}>{r.name || r.key}</Link>
                <span
                  className="ledger-bar"
                  style={{ width: r.granted ? `max(2px, ${(100 * r.granted) / widest}%)` : 0 }}
                  aria-hidden="true"
                />
                <span className="ledger-number">{n(r.granted)}</span>
              </li>
            ))}
          </ol>
        </details>
      )}
    </section>
  )
}

/** What everybody outside can do, in numbers; every number leads to its list. */
export function NumbersPage() {
  const [params, setParams] = useSearchParams()
  const at = params.get('at') ?? ''
  const numbers = useQuery({
    queryKey: ['numbers', at],
    queryFn: () => call('GET /api/v1/numbers', { query: { at, soon: true } }),
    refetchInterval: (q) => again(q.state.data?.behind),
    placeholderData: keepPreviousData,
  })
  const x = numbers.data
  const picked = filters.filter((f) => params.get(f))
  const to = (f: string) => (key: string) => `/numbers${query({ at, [f]: key })}`
  if (picked.length > 0) return <Lines at={at} />
  return (
    <Page
      title="In numbers"
      lead="What everybody outside can do, in numbers. Granted actions need a role, and are counted by person, action and item. Wide actions need no role, and are counted apart."
    >
      <TimeLine at={at} onChange={(v) => setParams(v ? { at: v } : {})} />
      {numbers.error && <Wrong error={numbers.error} retry={() => void numbers.refetch()} />}
      {!x && !numbers.error && <Waiting what="Counting everybody" />}
      {x?.behind && <Behind asOf={x.stated.at} />}
      {x && (
        <>
          <dl className="impact-figures">
            <div>
              <dt>Parties</dt>
              <dd>{n(x.parties)}</dd>
            </div>
            <div>
              <dt>that reach something</dt>
              <dd>{n(x.reaching)}</dd>
            </div>
            <div>
              <dt>Granted actions</dt>
              <dd>{n(x.granted)}</dd>
            </div>
            <div>
              <dt>Typical newcomers, apart</dt>
              <dd>{n(x.newcomers)}</dd>
            </div>
          </dl>
          <div className="ledgers">
            <Ledger title="By partner" rows={x.partners} to={to('partner')} />
            <Ledger title="By space" rows={x.spaces} to={to('space')} />
            <Ledger title="By kind" rows={x.kinds} to={to('kind')} />
            <Ledger
              title="By service"
              rows={Object.entries(x.services ?? {}).map(([key, granted]) => ({ key, granted }))}
              to={(k) => to('action')(`${k}.*`)}
            />
            <Ledger title="By action" rows={[...x.actions].sort((a, b) => b.granted - a.granted)} to={to('action')} />
            <section className="ledger" aria-label="Wide">
              <h2>Wide</h2>
              <WideTable rows={x.wide} />
            </section>
          </div>
          <StatedLine s={x.stated} />
        </>
      )}
    </Page>
  )
}

function Lines({ at }: { at: string }) {
  const [params] = useSearchParams()
  const asked = Object.fromEntries(filters.map((f) => [f, params.get(f) ?? '']))
  const lines = useInfiniteQuery({
    queryKey: ['number-lines', at, asked],
    initialPageParam: '',
    queryFn: ({ pageParam }) => call('GET /api/v1/numbers/lines', { query: { ...asked, at, limit: 200, cursor: pageParam } }),
    getNextPageParam: (p) => p.next || undefined,
  })
  const all = lines.data?.pages.flatMap((p) => p.lines) ?? []
  const words = filters
    .filter((f) => asked[f])
    .map((f) => `${f} ${asked[f]}`)
    .join(', ')
  return (
    <Page title={`Behind the number: ${words}`} lead={<Link to={`/numbers${query({ at })}`}>Back to all numbers</Link>}>
      {lines.error && <Wrong error={lines.error} />}
      {lines.isLoading && <Waiting what="Listing" />}
      {lines.data && all.length === 0 && <Empty>Nobody can do any of it.</Empty>}
      {all.length > 0 && (
        <div className="wide" role="region" aria-label="Lines" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Party</th>
                <th scope="col">Resource</th>
                <th scope="col">Actions</th>
              </tr>
            </thead>
            <tbody>
              {all.map((l) => (
                <tr key={l.party + l.resource}>
                  <th scope="row">
                    <Link to={`/reach${query({ who: l.party, at })}`}>{l.name || l.party}</Link>
                    <span className="sub">
                      {l.name ? l.party : ''} {l.kind}
                      {l.partner ? ` · ${l.partner}` : ''}
                    </span>
                  </th>
                  <td>
                    {l.resource_name || l.resource}
                    {l.resource_name && <span className="sub">{l.resource}</span>}
                  </td>
                  <td>
                    {l.actions.map((a, i) => (
                      <span key={a}>
                        {i > 0 && ', '}
                        <Link to={`/ask${query({ who: l.party, action: a, resource: l.resource, at })}`}>{a}</Link>
                      </span>
                    ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {lines.hasNextPage && (
        <Button size="sm" variant="outline-primary" disabled={lines.isFetchingNextPage} onClick={() => void lines.fetchNextPage()}>
          More lines
        </Button>
      )}
      {lines.data && <StatedLine s={lines.data.pages[0].stated} />}
    </Page>
  )
}

/** Whom the limit of a rule lets do what the next tighter value would not. */
export function RuleAudienceLine({ rule, value }: { rule: string; value: string }) {
  const found = useQuery({
    queryKey: ['rule-audience', rule, value],
    queryFn: () => call('GET /api/v1/rules/{rule}/audience', { path: { rule }, query: { value } }),
    retry: false,
  })
  if (!found.data) return null // what has no audience says nothing
  const x = found.data
  const pairs = x.wide.reduce((sum, w) => sum + w.pairs, 0)
  return (
    <details className="rule-audience">
      <summary>
        {x.parties === 0 && x.newcomers.length === 0
          ? `At ${value}, nobody known does anything that ${x.tighter} would not let them.`
          : `At ${value}, ${n(x.parties)} parties do what ${x.tighter} would not let them: ${n(x.granted)} granted${pairs ? `, ${n(pairs)} pairs of wide ones` : ''}.`}
      </summary>
      <ul>
        {x.partners.slice(0, 8).map((p) => (
          <li key={p.key}>
            {p.name || p.key}: {n(p.granted)}
          </li>
        ))}
        {x.wide.map((w) => (
          <li key={w.action + w.kind}>
            {w.action}: {n(w.parties)} parties, {n(w.pairs)} pairs
          </li>
        ))}
        {x.lines
          .filter((l) => !l.wide)
          .slice(0, 12)
          .map((l) => (
            <li key={l.who + l.resource}>
              <Link to={`/ask${query({ who: l.who, action: l.actions[0], resource: l.resource })}`}>{l.name || l.who}</Link>:{' '}
              {l.resource_name || l.resource}, {l.actions.join(', ')}
            </li>
          ))}
      </ul>
    </details>
  )
}
