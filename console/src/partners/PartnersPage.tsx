import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, services, type BothHalves } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { Bars } from './Bars'
import { Letters } from './Letters'
import { AddPartner } from './AddPartner'

export const mayKeep = (role: string) => role === 'administrator' || role === 'keeper'

export const together: Record<string, string> = {
  open: 'open',
  unconfirmed: 'theirs not known',
  their_turn: 'waits for them',
  our_turn: 'waits for us',
  shut: 'shut',
}

/** What our record says, and what the policy makes of it where that is something else. */
export function oursWord(h: BothHalves): string {
  if (h.because === 'by_standing') return 'closed by its standing'
  if (h.ours === 'yes') return h.opens ? 'opened' : 'opened, and the level is closed'
  if (h.ours === 'no') return 'closed by name'
  return h.opens ? 'not named, and the level admits anybody' : 'not opened'
}

/** One service and direction as a pair of marks: ours stands left, theirs right, upright where open. */
export function Halves({ h, dim }: { h: BothHalves | undefined; dim?: boolean }) {
  if (!h) return <span className="visually-hidden">nothing said</span>
  const said = `${h.key}: ours ${oursWord(h)}, theirs ${h.theirs}${h.old ? ' (too old)' : ''}; ${together[h.joint]}`
  return (
    <span className={`pair is-${h.joint}${dim ? ' is-dim' : ''}`} title={said}>
      <span aria-hidden="true">
        <b>{h.opens ? '▲' : h.ours === 'no' || h.ours === 'yes' ? '▼' : '·'}</b>
        <i>{h.theirs === 'admits' ? '△' : h.theirs === 'refuses' ? '▽' : '?'}</i>
      </span>
      <span className="visually-hidden">{said}</span>
    </span>
  )
}

const filters = {
  all: 'all',
  their_turn: 'waits for them',
  our_turn: 'waits for us',
  unconfirmed: 'theirs not known',
  mismatch: 'mismatch',
} as const
type Filter = keyof typeof filters
const matches = (h: BothHalves, f: Filter) =>
  f === 'all' || (f === 'mismatch' ? h.joint === 'their_turn' || h.joint === 'our_turn' : h.joint === f)

export function PartnersPage({ role }: { role: string }) {
  const wantsBar = useSearchParams()[0].has('bar') // somebody came to bar it: that stands first
  const [q, setQ] = useState('')
  const [adding, setAdding] = useState(false)
  const [show, setShow] = useState<Filter>('all')
  const halves = useQuery({ queryKey: ['halves'], queryFn: () => call('GET /api/v1/halves') })
  const letters = useQuery({ queryKey: ['letters', 'open'], queryFn: () => call('GET /api/v1/letters', { query: { state: 'open' } }) })
  const at = new Map((halves.data?.halves ?? []).map((h) => [`${h.partner} ${h.key}`, h]))
  const concerned = (f: Filter) => new Set((halves.data?.halves ?? []).filter((h) => matches(h, f)).map((h) => h.partner))
  const some = concerned(show)
  const list = useInfiniteQuery({
    queryKey: ['partners', q],
    queryFn: ({ pageParam }) => call('GET /api/v1/partners', { query: { q, cursor: pageParam, limit: 200 } }),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (old) => old,
  })
  const total = list.data?.pages[0].total
  const partners = list.data?.pages.flatMap((p) => p.partners) ?? []
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list
  useEffect(() => {
    if (show !== 'all' && hasNextPage && !isFetchingNextPage) void fetchNextPage() // a filter is of all of them
  }, [show, hasNextPage, isFetchingNextPage, fetchNextPage])
  return (
    <Page
      title="Partners"
      lead="The organisations you work with, their standing, and what each connection is open for, in both directions."
      tools={
        <>
          <Form.Control
            size="sm"
            type="search"
            aria-label="Find a partner"
            placeholder="Find by name or domain"
            value={q}
            onChange={(e) => setQ(e.target.value)}
          />
          {mayKeep(role) && (
            <Button size="sm" onClick={() => setAdding(true)}>
              Add a partner
            </Button>
          )}
        </>
      }
    >
      {wantsBar && <Bars keep={mayKeep(role)} />}
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading partners" />}
      {list.data && partners.length === 0 && (
        <Empty>{q ? `No partner matches “${q}”.` : 'No partner yet. Add the first: a name, its domains, and what it is opened for.'}</Empty>
      )}
      {halves.error && <Wrong error={halves.error} retry={() => void halves.refetch()} />}
      <div className="accounts" role="group" aria-label="Show">
        {(Object.keys(filters) as Filter[]).map((f) => (
          <button key={f} type="button" className="account" aria-pressed={show === f} onClick={() => setShow(f)}>
            {filters[f]} {f === 'all' ? (total ?? '') : halves.data ? concerned(f).size : ''}
          </button>
        ))}
      </div>
      {list.data && partners.length > 0 && (
        <div className="wide" tabIndex={0} role="region" aria-label="Partners against services">
          <table className="table board">
            <thead>
              <tr>
                <th scope="col" rowSpan={2}>
                  Partner
                </th>
                <th scope="col" rowSpan={2}>
                  Standing
                </th>
                {services.map((s) => (
                  <th key={s} scope="colgroup" colSpan={2} className="svc">
                    {s}
                  </th>
                ))}
                <th scope="col" rowSpan={2} className="num">
                  Guests
                </th>
              </tr>
              <tr>
                {services.flatMap((s) => [
                  <th key={`${s}i`} scope="col" className="dir">
                    in
                  </th>,
                  <th key={`${s}o`} scope="col" className="dir">
                    out
                  </th>,
                ])}
              </tr>
            </thead>
            <tbody>
              {partners
                .filter((p) => show === 'all' || some.has(p.id))
                .map((p) => (
                  <tr key={p.id} className={`standing-${p.standing}`}>
                    <th scope="row">
                      <Link to={`/partners/${p.id}`}>{p.name}</Link>
                      <span className="sub">
                        {p.domains.map((d) => d.name + (d.subdomains ? ' and below' : '')).join(', ') || 'no domain'}
                      </span>
                    </th>
                    <td>
                      <Standing s={p.standing} />
                    </td>
                    {services.flatMap((s) => [
                      <td key={`${s}i`} className="cell">
                        <Halves h={at.get(`${p.id} ${s}.in`)} dim={show !== 'all' && !matchesAt(at.get(`${p.id} ${s}.in`), show)} />
                      </td>,
                      <td key={`${s}o`} className="cell">
                        <Halves h={at.get(`${p.id} ${s}.out`)} dim={show !== 'all' && !matchesAt(at.get(`${p.id} ${s}.out`), show)} />
                      </td>,
                    ])}
                    <td className="num">{p.counts.guests}</td>
                  </tr>
                ))}
            </tbody>
          </table>
        </div>
      )}
      {hasNextPage && (
        <p className="more">
          {partners.length} of {total} partners{q && ' that match'} are shown.{' '}
          <Button size="sm" variant="outline-primary" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
            More partners
          </Button>
        </p>
      )}
      <p className="legend">
        Left ours: ▲ open, ▼ closed by name or by its standing, · not opened. Right theirs: △ admits, ▽ refuses, ? not known.{' '}
        <span className="pair is-open">both open</span> <span className="pair is-unconfirmed">theirs not known</span>{' '}
        <span className="pair is-their_turn">waits for them</span> <span className="pair is-our_turn">waits for us</span>
      </p>
      {letters.data && letters.data.letters.length > 0 && (
        <section className="open-letters" aria-labelledby="h-open-letters">
          <h2 id="h-open-letters">Letters without an answer</h2>
          <Letters all={letters.data.letters} named />
        </section>
      )}
      {!wantsBar && <Bars keep={mayKeep(role)} />}
      {adding && <AddPartner close={() => setAdding(false)} />}
    </Page>
  )
}

const matchesAt = (h: BothHalves | undefined, f: Filter) => h !== undefined && matches(h, f)

export function Standing({ s }: { s: string }) {
  return <span className={`standing is-${s}`}>{{ active: '● active', suspended: '‖ suspended', ended: '■ ended' }[s] ?? s}</span>
}
