import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useSearchParams } from 'react-router'
import { call } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { again, Behind, FindingList } from './FindingList'

export function FindingsPage({ role }: { role: string }) {
  const [params, setParams] = useSearchParams()
  const kind = params.get('kind') ?? ''
  const [state, setState] = useState<'open' | 'accepted' | 'all' | 'gone'>('open')
  const found = useInfiniteQuery({
    queryKey: ['findings', kind, state],
    queryFn: ({ pageParam }) => call('GET /api/v1/findings', { query: { kind, state, soon: true, cursor: pageParam } }),
    refetchInterval: (q) => again(q.state.data?.pages.some((p) => p.behind)),
    initialPageParam: '',
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (old) => old,
  })
  const list = found.data?.pages.flatMap((p) => p.findings) ?? []
  const kinds = found.data?.pages[0]?.kinds ?? []
  const most = Math.max(1, ...kinds.map((k) => k.open + k.accepted))
  const titles = [...new Set(list.map((f) => f.kind))]
  const choose = (k: string) => setParams(k && k !== kind ? { kind: k } : {}, { replace: true })
  return (
    <Page
      title="Findings"
      lead="Settings that contradict each other or have no effect, access that is about to end, and guests without a sponsor. A finding disappears when you fix it."
      tools={
        <Form.Select size="sm" aria-label="Show" value={state} onChange={(e) => setState(e.target.value as typeof state)}>
          <option value="open">Open</option>
          <option value="accepted">Accepted</option>
          <option value="all">All</option>
          <option value="gone">Gone</option>
        </Form.Select>
      }
    >
      {found.error && <Wrong error={found.error} retry={() => void found.refetch()} />}
      {!found.data && !found.error && <Waiting what="Looking" />}
      {found.data?.pages.some((p) => p.behind) && <Behind asOf={found.data.pages[0].at ?? ''} />}
      <div className="found">
        <nav aria-label="Kinds of finding">
          <ul className="kinds">
            {kinds.map((k) => (
              <li key={k.kind}>
                <button type="button" aria-pressed={k.kind === kind} onClick={() => choose(k.kind)} className={k.hint ? 'is-hint' : ''}>
                  <span>{k.title}</span>
                  <span className="kind-n">
                    {k.open}
                    {k.accepted > 0 ? ` + ${k.accepted} accepted` : ''}
                  </span>
                  <span className="kind-bar" aria-hidden="true">
                    <span style={{ width: `${(100 * k.open) / most}%` }} />
                  </span>
                </button>
              </li>
            ))}
          </ul>
          {kinds.some((k) => k.hint) && <p className="quiet">Dashed kinds are hints: nothing is wrong. Choose one to see it.</p>}
        </nav>
        <div>
          {found.data && list.length === 0 && (
            <Empty>
              {state === 'gone'
                ? 'Nothing went yet.'
                : state === 'accepted'
                  ? 'Nothing is accepted.'
                  : 'Nothing was noticed. That is how it should be.'}
            </Empty>
          )}
          {titles.map((t) => {
            const of = list.filter((f) => f.kind === t)
            return (
              <section key={t} className="found-kind" aria-labelledby={`f-${t}`}>
                <h2 id={`f-${t}`}>{of[0].title}</h2>
                <p className="quiet">{of[0].do}</p>
                <FindingList
                  findings={of}
                  decide={state !== 'gone' && (role === 'administrator' || role === 'keeper') ? role : undefined}
                  titled={false}
                />
              </section>
            )
          })}
          {found.hasNextPage && (
            <Button size="sm" variant="outline-primary" className="more" onClick={() => void found.fetchNextPage()}>
              More
            </Button>
          )}
        </div>
      </div>
    </Page>
  )
}
