import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useParams, useSearchParams } from 'react-router'
import { call, query, type GuestChange, type Session, failed } from '../api'
import { Empty, Page, since, until, Waiting, when, Wrong } from '../parts/bits'
import { Change, changesOf } from '../journal/JournalPage'
import { StoredChange } from '../places/PlaceDialog'
import { Act } from './Act'
import { Line } from './Line'
import { doWords, stateWords } from './words'
import { WishBox } from './Wishes'
import { Merge } from './MergeGuests'
import { WhatIf } from './WhatIf'

type Do = GuestChange['do']

/** One guest: what becomes of the record, what it holds, what was done, and what can be. */
export function GuestPage({ session }: { session: Session }) {
  const { address = '' } = useParams()
  const [act, setAct] = useState<{ what: Do; resource?: string; role?: string }>()
  const [params] = useSearchParams() // where somebody seems to be here twice, it leads to merging
  const [merge, setMerge] = useState(params.get('merge') !== null)
  const [out, setOut] = useState<{ bundle: string; resource: string }>() // of a bundle
  const g = useQuery({ queryKey: ['guest', address], queryFn: () => call('GET /api/v1/guests/{address}', { path: { address } }) })
  if (failed(g))
    return (
      <Page title={address}>
        <Wrong error={g.error} retry={() => void g.refetch()} />
      </Page>
    )
  if (!g.data) return <Waiting what="Reading the record" />
  const x = g.data
  const s = x.short
  const may = session.role !== 'auditor'
  const keeper = session.role === 'administrator' || session.role === 'keeper'
  const acts: Do[] =
    s.state === 'invited' ? ['remind', 'invite_again'] : s.state === 'suspended' ? ['bring_back', 'extend'] : ['extend', 'suspend', 'end']
  const facts: [string, string | undefined][] = [
    ['Sponsor', s.sponsor_name || s.sponsor || 'nobody'],
    ['Purpose', s.purpose],
    ['How they came', s.origins.map((o) => o.replace('_', ' ')).join(', ')],
    ['Record since', s.since && since(s.since)],
    ['Accepted', x.accepted && when(x.accepted)],
    ['Terms accepted', x.terms && when(x.terms)],
    ['Renewed', x.renewed && when(x.renewed)],
    ['Last seen', s.last_seen && when(s.last_seen)],
    ['Record ends', x.until && until(x.until)],
    ['Language', x.language],
    ['Location', x.location],
    ['Licence', x.licence && x.licence !== 'none' ? x.licence : undefined],
    ['Groups', x.groups.join(', ')],
  ]
  return (
    <Page
      title={s.name || s.address}
      lead={
        <>
          {s.name && <>{s.address} · </>}
          {s.partner ? <Link to={`/partners/${s.partner}`}>{s.partner}</Link> : 'no partner'} · {stateWords[s.state]}
          {x.state_since && <> since {when(x.state_since)}</>}
          {s.cause && <> ({s.cause.replaceAll('_', ' ')})</>}
        </>
      }
      tools={
        may && (
          <>
            {acts.map((a) => (
              <Button key={a} size="sm" variant="outline-primary" onClick={() => setAct({ what: a })}>
                {doWords[a]}
              </Button>
            ))}
            <Button size="sm" variant="outline-secondary" onClick={() => setAct({ what: 'describe' })}>
              {doWords.describe}
            </Button>
            {s.state !== 'suspended' && (
              <Link className="btn btn-sm btn-outline-secondary" to={`/invite${query({ list: s.address })}`}>
                Give more
              </Link>
            )}
            {keeper && (
              <>
                <Button size="sm" variant="outline-secondary" onClick={() => setAct({ what: 'hand_over' })}>
                  Hand over
                </Button>
                <Button size="sm" variant="outline-secondary" onClick={() => setMerge(true)}>
                  Same person as…
                </Button>
              </>
            )}
            {(keeper || s.state === 'invited') && (
              <Button size="sm" variant="outline-danger" onClick={() => setAct({ what: 'remove' })}>
                {s.state === 'invited' ? 'Take it back' : 'Remove now'}
              </Button>
            )}
          </>
        )
      }
    >
      {x.wish && may && <WishBox wish={x.wish} />}
      <section aria-labelledby="h-line">
        <h2 id="h-line">What happens next</h2>
        <Line steps={x.steps} label={`Line of time of ${s.address}`} />
        <WhatIf guest={x} />
      </section>
      <div className="guest-two">
        <section aria-labelledby="h-grants">
          <h2 id="h-grants">Access they have</h2>
          {x.grants.length === 0 && <Empty>No grant. They can only use what needs no role.</Empty>}
          {x.grants.length > 0 && (
            <div className="wide" role="region" aria-label="Grants" tabIndex={0}>
              <table className="table listing">
                <thead>
                  <tr>
                    <th scope="col">On</th>
                    <th scope="col">Role</th>
                    <th scope="col">Until</th>
                    <th scope="col">Confirmed</th>
                    {may && (
                      <th scope="col">
                        <span className="visually-hidden">Actions</span>
                      </th>
                    )}
                  </tr>
                </thead>
                <tbody>
                  {x.grants.map((r, i) => (
                    <tr key={i} className={r.live ? '' : 'is-over'}>
                      <th scope="row">
                        <Link to={`/audience${query({ resource: r.resource })}`}>{r.name || r.resource}</Link>
                        <span className="sub">
                          {r.group ? (
                            `through the group ${r.group}`
                          ) : r.bundle ? (
                            <Link to={`/bundles/${r.bundle}`}>through the bundle {r.bundle}</Link>
                          ) : (
                            r.resource
                          )}
                        </span>
                      </th>
                      <td>{r.role}</td>
                      <td>{r.live ? (r.until ? until(r.until) : 'no end') : r.until ? `over since ${until(r.until)}` : 'not yet'}</td>
                      <td>{r.reviewed ? since(r.reviewed) : '–'}</td>
                      {may && (
                        <td className="row-acts">
                          {r.live && !r.group && (
                            <>
                              <Button
                                size="sm"
                                variant="outline-secondary"
                                onClick={() => setAct({ what: 'confirm', resource: r.resource })}
                              >
                                Confirm
                              </Button>
                              <Button
                                size="sm"
                                variant="outline-secondary"
                                onClick={() =>
                                  r.bundle
                                    ? setOut({ bundle: r.bundle, resource: r.resource })
                                    : setAct({ what: 'end_grant', resource: r.resource, role: r.role })
                                }
                              >
                                End
                              </Button>
                            </>
                          )}
                        </td>
                      )}
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
          {x.links.map((l) => (
            <p key={l.id} className="quiet">
              The link {l.id} opens {l.item} to {l.right}
              {l.until ? ` until ${until(l.until)}` : ''}.
            </p>
          ))}
          <p>
            <Link to={`/reach${query({ who: s.address })}`}>Everything they can reach, and why</Link>
            {session.role !== 'member' && (
              <>
                {' '}
                · <Link to={`/reach${query({ who: s.address, could: 'true' })}`}>What they could come to reach</Link>
              </>
            )}
          </p>
        </section>
        <section aria-labelledby="h-facts">
          <h2 id="h-facts">The record</h2>
          <dl className="record-facts">
            {facts.map(
              ([k, v]) =>
                v && (
                  <div key={k}>
                    <dt>{k}</dt>
                    <dd>{v}</dd>
                  </div>
                ),
            )}
          </dl>
        </section>
      </div>
      {session.role !== 'member' && <History address={s.address} keeper={keeper} />}
      {act && <Act {...act} addresses={[s.address]} guest={x} keeper={keeper} close={() => setAct(undefined)} />}
      {out && (
        <StoredChange
          danger
          title={`Take it out of what ${s.name || s.address} holds of ${out.bundle}`}
          leave="Leave it"
          submit="Take it out"
          done="It is taken out"
          to="POST /api/v1/holdings/end"
          body={{ address: s.address, ...out }}
          close={() => setOut(undefined)}
        />
      )}
      {merge && <Merge into={s.address} other={params.get('merge') ?? ''} close={() => setMerge(false)} />}
    </Page>
  )
}

function History({ address, keeper }: { address: string; keeper: boolean }) {
  const client = useQueryClient()
  const again = useMutation({
    mutationFn: (id: number) => call('POST /api/v1/outbox/{id}/again', { path: { id } }),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['outbox', address] }),
  })
  const log = useInfiniteQuery({
    queryKey: ['journal', 'guest', address],
    queryFn: ({ pageParam }) => call('GET /api/v1/journal', { query: { about: address, cursor: pageParam, limit: 60 } }),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
  })
  const mail = useQuery({ queryKey: ['outbox', address], queryFn: () => call('GET /api/v1/outbox', { query: { recipient: address } }) })
  return (
    <div className="guest-two">
      <section aria-labelledby="h-history">
        <h2 id="h-history">What was done</h2>
        {log.error && <Wrong error={log.error} />}
        <ol className="log slim-log">
          {changesOf(log.data?.pages.flatMap((p) => p.entries) ?? []).map((c) => (
            <Change key={c[0].seq} entries={c} about={address} />
          ))}
        </ol>
        {log.hasNextPage && (
          <Button variant="outline-primary" size="sm" disabled={log.isFetchingNextPage} onClick={() => void log.fetchNextPage()}>
            Older entries
          </Button>
        )}
      </section>
      <section aria-labelledby="h-mail">
        <h2 id="h-mail">Mail to them</h2>
        {again.error && <Wrong error={again.error} />}
        {mail.data?.messages.length === 0 && <Empty>None.</Empty>}
        <ul className="plain-list">
          {mail.data?.messages.map((m) => (
            <li key={m.id}>
              <time>{when(m.made)}</time> {m.kind.replaceAll('_', ' ')}: {m.state}
              {m.error && <span className="gets-no"> ▼ {m.error}</span>}
              {keeper && (m.state === 'failed' || (m.state === 'waiting' && m.error)) && (
                <Button size="sm" variant="link" disabled={again.isPending} onClick={() => again.mutate(m.id)}>
                  Try again
                </Button>
              )}
            </li>
          ))}
        </ul>
      </section>
    </div>
  )
}
