import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useSearchParams } from 'react-router'
import { call, type Given, type LinkView, type Session } from '../api'
import { Empty, Page, until as untilText, Waiting, when, Wrong } from '../parts/bits'
import { ChangeLink } from './ChangeLink'
import { EndLink, MakeLink } from './MakeLink'

/** Links that open an item: which work, until when and why; making and ending them. */
export function LinksPage({ session }: { session: Session }) {
  const [params, setParams] = useSearchParams()
  const f = { q: params.get('q') ?? '', state: params.get('state') ?? '', who: params.get('who') ?? '', item: params.get('item') ?? '' }
  const set = (k: string, v: string) => {
    const next = new URLSearchParams(params)
    if (v) next.set(k, v)
    else next.delete(k)
    setParams(next, { replace: true })
  }
  const [ending, setEnding] = useState<LinkView>()
  const [changing, setChanging] = useState<LinkView>()
  const links = useInfiniteQuery({
    queryKey: ['links', f],
    queryFn: ({ pageParam }) => call('GET /api/v1/links', { query: { ...(f as Given<'GET /api/v1/links'>['query']), cursor: pageParam } }),
    initialPageParam: '',
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (old) => old,
  })
  const list = links.data?.pages.flatMap((p) => p.links) ?? []
  const may = session.role !== 'auditor'
  const making = may && params.get('make') !== null
  return (
    <Page
      title="Links"
      lead="A link opens one item, for the people it names or for anybody who has it. Whoever has a link does not sign in, so no partner gate stops them."
      tools={
        may && (
          <Button
            size="sm"
            variant={making ? 'outline-primary' : 'primary'}
            aria-expanded={making}
            onClick={() => (making ? set('make', '') : setParams({ ...Object.fromEntries(params), make: '1' }, { replace: true }))}
          >
            {making ? 'Close the form' : 'Make a link'}
          </Button>
        )
      }
    >
      {making && <MakeLink session={session} item={f.item} />}
      <div className="filters">
        <Form.Control
          size="sm"
          type="search"
          aria-label="Find links"
          placeholder="id, item, address, whose it is"
          value={f.q}
          onChange={(e) => set('q', e.target.value)}
        />
        <Form.Select size="sm" aria-label="For whom" value={f.who} onChange={(e) => set('who', e.target.value)}>
          <option value="">for anybody</option>
          <option value="bearer">for whoever holds it</option>
          <option value="named">for those it names</option>
        </Form.Select>
        <Form.Select size="sm" aria-label="Whether they work" value={f.state} onChange={(e) => set('state', e.target.value)}>
          <option value="">working or not</option>
          <option value="works">that work</option>
          <option value="dead">that do not</option>
        </Form.Select>
        {f.item && (
          <Button size="sm" variant="outline-secondary" onClick={() => set('item', '')}>
            only {f.item} ×
          </Button>
        )}
      </div>
      {links.error && <Wrong error={links.error} retry={() => void links.refetch()} />}
      {!links.data && !links.error && <Waiting what="Reading links" />}
      {links.data && list.length === 0 && <Empty>{f.q || f.state || f.who || f.item ? 'No link is so.' : 'There is no link.'}</Empty>}
      {list.length > 0 && (
        <div className="wide" role="region" aria-label="Links found" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Opens</th>
                <th scope="col">For</th>
                <th scope="col">Right</th>
                <th scope="col">Whose</th>
                <th scope="col">Ends</th>
                <th scope="col">Works</th>
                <th scope="col">Opened</th>
                {may && (
                  <th scope="col">
                    <span className="visually-hidden">Change or end it</span>
                  </th>
                )}
              </tr>
            </thead>
            <tbody>
              {list.map((l) => (
                <tr key={l.id}>
                  <th scope="row">
                    {l.item_name || l.item}
                    <code className="sub">{l.id}</code>
                  </th>
                  <td>
                    {l.bearer
                      ? 'whoever holds it'
                      : (l.for ?? []).slice(0, 3).join(', ') + ((l.for ?? []).length > 3 ? ` and ${(l.for ?? []).length - 3} more` : '')}
                  </td>
                  <td>
                    {l.effective_right ?? l.right}
                    {l.effective_right && l.effective_right !== l.right && <span className="sub">asked {l.right}</span>}
                    {!l.download && <span className="sub">without download</span>}
                    {l.password && <span className="sub">with a password</span>}
                  </td>
                  <td>{l.by}</td>
                  <td>
                    {l.effective_until ? untilText(l.effective_until) : 'never'}
                    {l.effective_until !== l.until && <span className="sub">asked {l.until ? untilText(l.until) : 'for no end'}</span>}
                  </td>
                  <td className={l.works ? '' : 'gets-no'}>
                    {l.works ? '▲ yes' : '▼ no'}
                    <span className="sub">{l.text}</span>
                  </td>
                  <td>
                    {l.opened === undefined ? '–' : l.opened === 0 ? 'never' : l.opened === 1 ? 'once' : `${l.opened} times`}
                    {l.opened_read && <span className="sub">as read {when(l.opened_read)}</span>}
                  </td>
                  {may && (
                    <td>
                      {(!l.until || new Date(l.until) > new Date()) && (
                        <Button size="sm" variant="link" onClick={() => setChanging(l)} aria-label={`Change the link ${l.id}`}>
                          Change
                        </Button>
                      )}
                      {(!l.until || new Date(l.until) > new Date()) && (
                        <Button size="sm" variant="link" onClick={() => setEnding(l)} aria-label={`End the link ${l.id}`}>
                          End
                        </Button>
                      )}
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {links.hasNextPage && (
        <Button size="sm" variant="outline-primary" className="more" onClick={() => void links.fetchNextPage()}>
          More
        </Button>
      )}
      {changing && <ChangeLink link={changing} close={() => setChanging(undefined)} />}
      {ending && <EndLink link={ending} close={() => setEnding(undefined)} />}
    </Page>
  )
}
