import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, type Session } from '../api'
import { Combo } from '../parts/Combo'
import { Empty, Page, until, Waiting, Wrong } from '../parts/bits'
import { Act } from './Act'
import { Tide } from './Tide'
import { doWords, needWords, stateWords } from './words'

const filters = ['q', 'partner', 'sponsor', 'state', 'origin', 'space', 'ending', 'needs'] as const
const bulk = ['extend', 'confirm', 'suspend', 'bring_back', 'end', 'remind', 'hand_over', 'remove'] as const

/** Records of guests: who, for whom, until when, and what is done about it. */
export function GuestsPage({ session, mine }: { session: Session; mine?: boolean }) {
  const [params, setParams] = useSearchParams()
  const [chosen, setChosen] = useState<Set<string>>(new Set())
  const [act, setAct] = useState<(typeof bulk)[number]>()
  const get = (k: string) => params.get(k) ?? ''
  const set = (k: string, v: string) => {
    const next = new URLSearchParams(params)
    if (v) next.set(k, v)
    else next.delete(k)
    setParams(next, { replace: true })
  }
  const asked = Object.fromEntries(filters.map((f) => [f, get(f)]))
  const sort = get('sort') || 'end'
  const list = useInfiniteQuery({
    queryKey: ['guests', asked, sort],
    initialPageParam: '',
    queryFn: ({ pageParam }) => call('GET /api/v1/guests', { query: { ...asked, sort, limit: 50, cursor: pageParam } }),
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: keepPreviousData,
  })
  const days = useQuery({
    queryKey: ['due-days', get('partner'), get('sponsor')],
    queryFn: () => call('GET /api/v1/due/days', { query: { until: '+182d', partner: get('partner'), sponsor: get('sponsor') } }),
    placeholderData: keepPreviousData,
  })
  const guests = list.data?.pages.flatMap((p) => p.guests) ?? []
  const total = list.data?.pages[0]?.total ?? 0
  const may = session.role !== 'auditor'
  const acts = bulk.filter((b) => session.role !== 'member' || (b !== 'remove' && b !== 'hand_over'))
  const any = filters.some((f) => get(f))
  return (
    <Page
      title={mine ? 'My guests' : 'Guests'}
      lead={
        mine
          ? 'The guests you sponsor: the access they have, until when, and what is asked of you.'
          : 'Everybody outside who has a guest record: their sponsor, their access, and when it ends.'
      }
      tools={
        <>
          <Form.Control
            size="sm"
            type="search"
            aria-label="Find guests"
            placeholder="name or address"
            value={get('q')}
            onChange={(e) => set('q', e.target.value)}
          />
          {session.role !== 'member' && (
            <Link className="btn btn-sm btn-outline-secondary" to="/lists">
              Lists
            </Link>
          )}
          {may && (
            <Link className="btn btn-sm btn-primary" to="/invite">
              Invite
            </Link>
          )}
        </>
      }
    >
      {days.data && days.data.total > 0 && <Tide days={days.data} ending={get('ending')} choose={(d) => set('ending', d)} />}
      <div className="filters">
        <Form.Select size="sm" aria-label="State" value={get('state')} onChange={(e) => set('state', e.target.value)}>
          <option value="">any state</option>
          {['active', 'invited', 'suspended'].map((s) => (
            <option key={s}>{s}</option>
          ))}
        </Form.Select>
        <Form.Select size="sm" aria-label="How they came" value={get('origin')} onChange={(e) => set('origin', e.target.value)}>
          <option value="">however they came</option>
          {['invited', 'shared', 'requested', 'fed', 'signed_up'].map((s) => (
            <option key={s} value={s}>
              {s.replace('_', ' ')}
            </option>
          ))}
        </Form.Select>
        {!mine && session.role !== 'member' && (
          <div className="plain-combo slim">
            <Combo label="Partner" kind="partner" placeholder="any" value={get('partner')} onChange={(v) => set('partner', v)} />
          </div>
        )}
        {!mine && session.role !== 'member' && (
          <div className="plain-combo slim">
            <Combo label="Sponsor" kind="person" placeholder="any" value={get('sponsor')} onChange={(v) => set('sponsor', v)} />
          </div>
        )}
        <div className="plain-combo slim">
          <Combo
            label="In the space"
            kind="space"
            placeholder="any"
            value={get('space')}
            onChange={(v) => set('space', v.replace(/^space:/, ''))}
          />
        </div>
        <Form.Select size="sm" aria-label="What is to be looked at" value={get('needs')} onChange={(e) => set('needs', e.target.value)}>
          <option value="">whatever they need</option>
          {Object.entries(needWords).map(([k, w]) => (
            <option key={k} value={k}>
              {w}
            </option>
          ))}
        </Form.Select>
        <Form.Select size="sm" aria-label="Order" value={sort} onChange={(e) => set('sort', e.target.value)}>
          <option value="end">first to end first</option>
          <option value="address">by address</option>
        </Form.Select>
        {any && (
          <Button size="sm" variant="outline-secondary" onClick={() => setParams({})}>
            Everybody
          </Button>
        )}
      </div>
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {list.isLoading && <Waiting what="Reading guests" />}
      {list.data && total === 0 && (
        <Empty>{any ? 'No record is so.' : 'There is no guest yet. Invite somebody; what it opens is told before anything is sent.'}</Empty>
      )}
      {guests.length > 0 && (
        <>
          {may && (
            <div className="bulk" role="group" aria-label="With the chosen">
              <span className="quiet" role="status">
                {chosen.size > 0 ? `${chosen.size} chosen` : `${total} records`}
              </span>
              {chosen.size > 0 &&
                acts.map((b) => (
                  <Button key={b} size="sm" variant={b === 'remove' ? 'outline-danger' : 'outline-primary'} onClick={() => setAct(b)}>
                    {doWords[b]}
                  </Button>
                ))}
            </div>
          )}
          <div className="wide" role="region" aria-label="The list of guests" tabIndex={0}>
            <table className="table listing guests">
              <thead>
                <tr>
                  {may && (
                    <th scope="col">
                      <Form.Check
                        aria-label="Choose all shown"
                        checked={chosen.size > 0 && guests.every((g) => chosen.has(g.address))}
                        onChange={(e) => setChosen(e.target.checked ? new Set(guests.map((g) => g.address)) : new Set())}
                      />
                    </th>
                  )}
                  <th scope="col">Guest</th>
                  <th scope="col">From</th>
                  <th scope="col">Sponsor</th>
                  <th scope="col">State</th>
                  <th scope="col" className="num">
                    Grants
                  </th>
                  <th scope="col">Ends</th>
                </tr>
              </thead>
              <tbody>
                {guests.map((g) => (
                  <tr key={g.address}>
                    {may && (
                      <td>
                        <Form.Check
                          aria-label={`Choose ${g.address}`}
                          checked={chosen.has(g.address)}
                          onChange={(e) => {
                            const next = new Set(chosen)
                            if (e.target.checked) next.add(g.address)
                            else next.delete(g.address)
                            setChosen(next)
                          }}
                        />
                      </td>
                    )}
                    <th scope="row">
                      <Link to={`/guests/${encodeURIComponent(g.address)}`}>{g.name || g.address}</Link>
                      <span className="sub">{g.name ? g.address : g.purpose}</span>
                    </th>
                    <td>{g.partner ?? <span className="quiet">no partner</span>}</td>
                    <td>
                      {g.sponsor_name || g.sponsor || <span className="gets-no">nobody</span>}
                      {g.purpose && <span className="sub">{g.purpose}</span>}
                    </td>
                    <td>{stateWords[g.state]}</td>
                    <td className="num">{g.grants ?? 0}</td>
                    <td>
                      {g.ends ? until(g.ends) : 'never'}
                      {g.ends_because && <span className="sub">{g.ends_because}</span>}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
      {list.hasNextPage && (
        <Button
          size="sm"
          variant="outline-primary"
          className="more"
          disabled={list.isFetchingNextPage}
          onClick={() => void list.fetchNextPage()}
        >
          More
        </Button>
      )}
      {act && (
        <Act
          what={act}
          addresses={[...chosen]}
          keeper={session.role !== 'member'}
          close={() => {
            setAct(undefined)
            setChosen(new Set())
          }}
        />
      )}
    </Page>
  )
}
