import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, linked, query, services, type BoardRow } from '../api'
import { Empty, Page, until, Waiting, Wrong } from '../parts/bits'
import { CouldList, NowOrCould } from '../could/CouldList'
import { Combo } from '../parts/Combo'
import { StatedLine, TimeLine } from './time'
import { One } from './OneReach'

const groups = {
  everybody: 'everybody outside',
  'kind:guest': 'guests',
  'kind:provisioned': 'fed by their directory',
  'kind:federated': 'federated',
  'kind:personal': 'private addresses',
  'kind:bearer': 'links',
}

/** Parties against services, in numbers; a row opens into spaces, items and actions. */
export function ReachPage() {
  const [params, setParams] = useSearchParams()
  const who = params.get('who') ?? ''
  const of = params.get('of') ?? 'everybody'
  const at = params.get('at') ?? ''
  const could = params.get('could') === 'true'
  const set = (k: string, v: string) => {
    const next = new URLSearchParams(params)
    if (v) next.set(k, v)
    else next.delete(k)
    setParams(next)
  }
  return (
    <Page
      title={who ? `What ${who} ${could ? 'could come to reach' : 'can reach'}` : 'Reach'}
      lead={
        who ? (
          <Link to={`/reach${query({ of: of === 'everybody' ? undefined : of, at })}`}>Back to all parties</Link>
        ) : (
          'What each outsider can do, service by service. Choose one to see their spaces, items and actions.'
        )
      }
    >
      {who && !who.startsWith('link:') && <NowOrCould could={could} choose={(v) => set('could', v ? 'true' : '')} />}
      {!(who && could) && <TimeLine at={at} onChange={(v) => set('at', v)} />}
      {who && could ? (
        <CouldList who={who} />
      ) : who ? (
        <One who={who} at={at} />
      ) : (
        <Many of={of} at={at} choose={(v) => set('of', v === 'everybody' ? '' : v)} open={(v) => set('who', v)} />
      )}
    </Page>
  )
}

function Many({ of, at, choose, open }: { of: string; at: string; choose: (v: string) => void; open: (v: string) => void }) {
  const [q, setQ] = useState('')
  const [partner, setPartner] = useState(of.startsWith('partner:') ? of.slice(8) : '')
  const board = useInfiniteQuery({
    queryKey: ['board', of, at, q],
    initialPageParam: '',
    queryFn: ({ pageParam }) => call('GET /api/v1/board', { query: { who: of, at, q, limit: 40, cursor: pageParam } }),
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: keepPreviousData,
  })
  const first = board.data?.pages[0]
  const rows = board.data?.pages.flatMap((p) => p.rows) ?? []
  return (
    <>
      <div className="accounts" role="group" aria-label="Who">
        {Object.entries(groups).map(([k, word]) => (
          <button key={k} type="button" className="account" aria-pressed={of === k} onClick={() => choose(k)}>
            {word}
          </button>
        ))}
        <div className="plain-combo slim">
          <Combo
            label="or a partner"
            kind="partner"
            value={partner}
            onChange={(v) => {
              setPartner(v)
              if (v === '' || /^[a-z0-9][a-z0-9._-]*$/.test(v)) choose(v ? `partner:${v}` : 'everybody')
            }}
          />
        </div>
        <Form.Control
          size="sm"
          type="search"
          aria-label="Find a party"
          placeholder="Find by name or address"
          value={q}
          onChange={(e) => setQ(e.target.value)}
          className="slim"
        />
      </div>
      {board.error && <Wrong error={board.error} retry={() => void board.refetch()} />}
      {!first && !board.error && <Waiting what="Asking for everybody" />}
      {first && (
        <>
          <p className="figures" role="status">
            <b>{first.totals.parties}</b> known, <b>{first.totals.newcomers}</b> typical{' '}
            {first.totals.newcomers === 1 ? 'newcomer' : 'newcomers'}. The large number counts granted actions, the number after + those
            that need no role.
            {first.residual && <span className="residual"> Residual risk: {first.residual}</span>}
          </p>
          {rows.length === 0 && <Empty>Nobody is meant by that.</Empty>}
          {rows.length > 0 && (
            <div className="wide" role="region" aria-label="Parties against services" tabIndex={0}>
              <table className="table board reach-board">
                <thead>
                  <tr>
                    <th scope="col">Party</th>
                    {services.map((s) => (
                      <th key={s} scope="col" className="num">
                        {s}
                      </th>
                    ))}
                    <th scope="col">First role ends</th>
                  </tr>
                  {!first.totals.left_out && (
                    <tr className="sums">
                      <th scope="row">All known: granted</th>
                      {services.map((s) => (
                        <td key={s} className="num">
                          {first.totals.granted[s] ?? 0}
                        </td>
                      ))}
                      <td />
                    </tr>
                  )}
                </thead>
                <tbody>
                  {rows.map((r) => (
                    <Row key={`${r.party}${r.newcomer}`} r={r} open={open} />
                  ))}
                </tbody>
              </table>
            </div>
          )}
          {board.hasNextPage && (
            <Button
              size="sm"
              variant="outline-primary"
              className="more"
              onClick={() => void board.fetchNextPage()}
              disabled={board.isFetchingNextPage}
            >
              More ({first.total - rows.length} left)
            </Button>
          )}
          <p className="lists">
            <a href={linked('GET /api/v1/report/{what}', { path: { what: 'board' }, query: { who: of, at, q, form: 'html' } })}>
              As a page that prints
            </a>
            <a
              href={linked('GET /api/v1/report/{what}', { path: { what: 'board' }, query: { who: of, at, q, form: 'csv' } })}
              download="reach.csv"
            >
              As CSV
            </a>
          </p>
          <StatedLine s={first.stated} />
        </>
      )}
    </>
  )
}

function Row({ r, open }: { r: BoardRow; open: (who: string) => void }) {
  return (
    <tr className={r.newcomer ? 'is-newcomer' : ''}>
      <th scope="row">
        <button type="button" className="plain-link" onClick={() => open(r.party)}>
          {r.name || r.party}
        </button>
        <span className="sub">
          {r.name ? `${r.party}, ` : ''}
          {r.kind}
          {r.newcomer && ', typical'}
        </span>
      </th>
      {services.map((s) => (
        <td key={s} className="num">
          {r.granted[s] ? <b>{r.granted[s]}</b> : null}
          {r.wide[s] ? <span className="wide-n"> +{r.wide[s]}</span> : null}
          {!r.granted[s] && !r.wide[s] && <span className="visually-hidden">nothing</span>}
        </td>
      ))}
      <td>{r.until ? until(r.until) : ''}</td>
    </tr>
  )
}
