import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, linked, query, type AudienceLine } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { CouldList, NowOrCould } from '../could/CouldList'
import { Combo } from '../parts/Combo'
import { AudienceDiffers } from '../systems/WhereItDiffers'
import { StatedLine, TimeLine } from './time'
import { Through } from './Through'

type Line = { key: string; verbs: string[]; l: AudienceLine }

function merged(lines: AudienceLine[]): Line[] {
  const out = new Map<string, Line>()
  for (const l of lines) {
    const key = [l.party, l.resource, l.conditions.join(), l.cause.text, l.since ?? '', l.until ?? ''].join('|')
    const have = out.get(key)
    if (have) have.verbs.push(l.action)
    else out.set(key, { key, verbs: [l.action], l })
  }
  return [...out.values()]
}

/** Everybody outside who can do something with one resource. */
export function AudiencePage() {
  const [params, setParams] = useSearchParams()
  const resource = params.get('resource') ?? ''
  const at = params.get('at') ?? ''
  const all = params.get('all') === 'true'
  const could = params.get('could') === 'true'
  const [text, setText] = useState(resource)
  const [q, setQ] = useState('')
  const set = (changes: Record<string, string>) => {
    const next = new URLSearchParams(params)
    for (const [k, v] of Object.entries(changes)) {
      if (v) next.set(k, v)
      else next.delete(k)
    }
    setParams(next)
  }
  const audience = useInfiniteQuery({
    queryKey: ['audience', resource, at, all, q],
    initialPageParam: '',
    queryFn: ({ pageParam }) => call('GET /api/v1/audience', { query: { resource, at, all: all, q, limit: 200, cursor: pageParam } }),
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: keepPreviousData,
    enabled: resource !== '' && !could,
  })
  const first = audience.data?.pages[0]
  const lines = merged(audience.data?.pages.flatMap((p) => p.lines) ?? [])
  // One party's lines stand together, under its name once.
  const again = (i: number) => i > 0 && lines[i].l.party === lines[i - 1].l.party
  const span = (i: number) => {
    let n = 1
    while (i + n < lines.length && lines[i + n].l.party === lines[i].l.party) n++
    return n
  }
  const report = { resource, at, all, q }
  return (
    <Page
      title={could && resource ? `Who could come to reach ${resource}` : first ? `Who reaches ${first.name || first.resource}` : 'Audience'}
      lead="Everybody outside who can use a space, an item or a meeting, or contact one of our people."
    >
      <Form
        className="audience-form"
        onSubmit={(e) => {
          e.preventDefault()
          set({ resource: text.trim() })
        }}
      >
        <div className="plain-combo">
          <Combo label="What" kind="resource" value={text} onChange={setText} placeholder="space:loan-dossier" />
        </div>
        <Button size="sm" type="submit">
          Show
        </Button>
        {!could && (
          <>
            <Form.Check
              id="a-all"
              label="with everything in the space"
              checked={all}
              onChange={(e) => set({ all: e.target.checked ? 'true' : '' })}
            />
            <Form.Control
              size="sm"
              type="search"
              aria-label="Find a party"
              placeholder="Find by name or address"
              value={q}
              onChange={(e) => setQ(e.target.value)}
              className="slim"
            />
          </>
        )}
      </Form>
      {resource && <NowOrCould could={could} choose={(v) => set({ could: v ? 'true' : '' })} />}
      {!could && <TimeLine at={at} onChange={(v) => set({ at: v })} />}
      {resource && could && <CouldList resource={resource} />}
      {!resource && <Empty>Enter a space, an item, a meeting or a person above.</Empty>}
      {audience.error && <Wrong error={audience.error} retry={() => void audience.refetch()} />}
      {resource && !could && !first && !audience.error && <Waiting what="Asking everybody" />}
      {first && !could && (
        <>
          <p className="figures" role="status">
            <b>{first.parties}</b> known, <b>{first.newcomers}</b> typical {first.newcomers === 1 ? 'newcomer' : 'newcomers'}.
          </p>
          {!at && <AudienceDiffers resource={resource} all={all} q={q} />}
          {lines.length === 0 && <Empty>Nobody outside.</Empty>}
          {lines.length > 0 && (
            <div className="wide" role="region" aria-label="Audience" tabIndex={0}>
              <table className="table listing">
                <thead>
                  <tr>
                    <th scope="col">Who</th>
                    {all && <th scope="col">What</th>}
                    <th scope="col">Actions</th>
                    <th scope="col">Through</th>
                    <th scope="col">Since and until</th>
                  </tr>
                </thead>
                <tbody>
                  {lines.map(({ key, verbs, l }, i) => (
                    <tr key={key} className={`${l.newcomer ? 'is-newcomer' : ''} ${again(i) ? 'is-again' : ''}`}>
                      {!again(i) && (
                        <th scope="rowgroup" rowSpan={span(i)}>
                          <Link to={`/reach${query({ who: l.party, at })}`}>
                            {l.kind === 'bearer' ? 'whoever holds the link' : l.name || l.party}
                          </Link>
                          <span className="sub">
                            {l.party}, {l.kind}
                            {l.newcomer && ', typical'}
                          </span>
                        </th>
                      )}
                      {all && <td>{l.resource_name || l.resource}</td>}
                      <td>
                        {verbs.map((v) => v.split('.')[1].replaceAll('_', ' ')).join(', ')}
                        {l.conditions.length > 0 && <span className="sub">with {l.conditions.join(', ').replaceAll('_', ' ')}</span>}
                      </td>
                      <Through l={l} />
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
          {audience.hasNextPage && (
            <Button
              size="sm"
              variant="outline-primary"
              className="more"
              onClick={() => void audience.fetchNextPage()}
              disabled={audience.isFetchingNextPage}
            >
              More
            </Button>
          )}
          <p className="lists">
            <a href={linked('GET /api/v1/report/{what}', { path: { what: 'audience' }, query: { ...report, form: 'html' } })}>
              As a page that prints
            </a>
            <a
              href={linked('GET /api/v1/report/{what}', { path: { what: 'audience' }, query: { ...report, form: 'csv' } })}
              download="audience.csv"
            >
              As CSV
            </a>
          </p>
          <StatedLine s={first.stated} />
        </>
      )}
    </Page>
  )
}
