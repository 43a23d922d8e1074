import { useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, query, type ReviewLine, type ReviewsDone, type Round } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { Combo } from '../parts/Combo'
import { until, when } from '../parts/dates'
import { WeighedText } from '../drafts/Weighed'
import { Progress, stateWords } from './words'

type Lines = { lines: ReviewLine[]; next?: number }
const dos = { keep: 'Keep', narrower: 'Make narrower', end: 'End', hand_over: 'Hand over', not_mine: 'Not mine' } as const
type Do = keyof typeof dos

/** One round: what it asks, who has not answered, and what was answered; many lines are answered at once. */
export function ReviewPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const refresh = useRefresh()
  const round = useQuery({ queryKey: ['reviews', id], queryFn: () => call<Round>('GET', `/api/v1/reviews/${id}`) })
  const r = round.data
  const [which, setWhich] = useState<'mine' | 'open' | 'all'>(role === 'auditor' ? 'all' : 'mine')
  const shown = which === 'mine' && r && r.mine === 0 ? (r.open > 0 && role !== 'member' ? 'open' : 'all') : which
  const lines = useInfiniteQuery({
    queryKey: ['reviews', id, 'lines', shown],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => call<Lines>('GET', `/api/v1/reviews/${id}/lines${query({ mine: shown === 'mine' ? 'true' : undefined, state: shown === 'all' ? undefined : 'open', after: pageParam ? String(pageParam) : undefined })}`),
    getNextPageParam: (last) => last.next,
    enabled: r !== undefined,
  })
  const [chosen, setChosen] = useState<number[]>([])
  const [doing, setDoing] = useState<Do>()
  const [ending, setEnding] = useState(false)
  const [done, setDone] = useState<ReviewsDone>()
  if (round.error) return <Wrong error={round.error} retry={() => void round.refetch()} />
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
          It waits for {r.waits.slice(0, 8).map((w) => `${w.name} (${w.lines})`).join(', ')}
          {r.waits.length > 8 && ` and ${r.waits.length - 8} more`}.
        </p>
      )}
      <div className="inline-form review-bar">
        <Form.Select size="sm" aria-label="Which lines" value={shown} onChange={(e) => (setWhich(e.target.value as typeof which), setChosen([]))}>
          {role !== 'auditor' && <option value="mine">what it asks me</option>}
          {role !== 'member' && <option value="open">all that is not answered</option>}
          <option value="all">all lines</option>
        </Form.Select>
        {may && open.length > 0 && (
          <>
            <Form.Check id="rv-all" label={`all ${open.length}`} checked={chosen.length === open.length} onChange={(e) => setChosen(e.target.checked ? open.map((l) => l.n) : [])} />
            {(Object.keys(dos) as Do[]).map((d) => (
              <Button key={d} size="sm" variant={d === 'keep' ? 'primary' : d === 'end' ? 'outline-danger' : 'outline-primary'} disabled={chosen.length === 0} onClick={() => setDoing(d)}>
                {dos[d]}
              </Button>
            ))}
          </>
        )}
      </div>
      {done && (
        <p role="status">
          {done.done} answered{done.refused > 0 && `, ${done.refused} not: ${[...new Set(done.lines.filter((l) => l.reason).map((l) => l.reason))].slice(0, 3).join('; ')}`}.
        </p>
      )}
      {lines.error && <Wrong error={lines.error} retry={() => void lines.refetch()} />}
      {lines.data && all.length === 0 && <Empty>{shown === 'mine' ? 'Nothing waits for you here.' : 'There is no such line.'}</Empty>}
      {all.length > 0 && (
        <ul className="review-lines">
          {all.map((l) => (
            <li key={l.n} className={`is-${l.state}`}>
              {may && l.state === 'open' ? <Form.Check aria-label={`Line ${l.n}: ${l.party_name ?? l.party} on ${l.name}`} checked={chosen.includes(l.n)} onChange={(e) => setChosen(e.target.checked ? [...chosen, l.n] : chosen.filter((n) => n !== l.n))} /> : <span />}
              <div>
                <b>{l.party_name ?? l.party}</b> · {l.name}: {l.narrowed ? `${l.narrowed}${l.instead ? ` on ${l.instead_name ?? l.instead} alone` : ''}, was ${l.role}` : l.role}
                {l.bundle && ` (bundle ${l.bundle})`}
                <p className="quiet">
                  {[l.party_name && l.party, l.purpose, l.last_seen && `last seen ${when(l.last_seen)}`, l.opens && `may do ${l.opens} ${l.opens === 1 ? 'thing' : 'things'} with it`, l.ends && `ends ${until(l.ends)}`, `asked of ${l.reviewer_name}`].filter(Boolean).join(' · ')}
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

/** An answer to lines, with what it takes away before it is given. */
function Answer({ id, what, lines, close, done }: { id: string; what: Do; lines: number[]; close: () => void; done: (x: ReviewsDone) => void }) {
  const [why, setWhy] = useState('')
  const [last, setLast] = useState('')
  const [role, setRole] = useState('view')
  const [item, setItem] = useState('')
  const [to, setTo] = useState('')
  const person = to.trim().replace(/^person:/, '')
  const body = { do: what, lines, ...(what === 'keep' && last ? { until: last } : {}), ...(what === 'narrower' ? { role, ...(item.trim() ? { item: item.trim() } : {}) } : {}), ...(what === 'hand_over' ? { to: person } : {}), ...(why.trim() ? { why: why.trim() } : {}) }
  const takes = what === 'end' || what === 'narrower'
  const ahead = useQuery({ queryKey: ['review-ahead', id, JSON.stringify({ ...body, why: undefined })], queryFn: () => call<ReviewsDone>('POST', `/api/v1/reviews/${id}/answers?preview=true`, { ...body, why: undefined }), enabled: takes, retry: false, gcTime: 0 })
  const go = useMutation({
    mutationFn: () => call<ReviewsDone>('POST', `/api/v1/reviews/${id}/answers`, body),
    onSuccess: (x) => {
      done(x)
      close()
    },
  })
  return (
    <AskDialog title={`${dos[what]}: ${lines.length === 1 ? 'one line' : `${lines.length} lines`}`} leave="Cancel" submit={dos[what]} danger={what === 'end'} disabled={go.isPending || (takes && !ahead.data) || (what === 'hand_over' && person === '')} error={go.error ?? ahead.error} close={close} onSubmit={() => go.mutate()}>
      {what === 'keep' && (
        <Form.Group controlId="ra-until" className="mb-2">
          <Form.Label>An earlier end (else as it is)</Form.Label>
          <Form.Control size="sm" type="date" value={last} onChange={(e) => setLast(e.target.value)} />
        </Form.Group>
      )}
      {what === 'narrower' && (
        <Form.Group controlId="ra-role" className="mb-2">
          <Form.Label>The role that is enough</Form.Label>
          <Form.Select size="sm" value={role} onChange={(e) => setRole(e.target.value)}>
            <option>view</option>
            <option>contribute</option>
            {item.trim() && <option>manage</option>}
          </Form.Select>
        </Form.Group>
      )}
      {what === 'narrower' && (
        <div className="plain-combo mb-2">
          <Combo label="On one thing of the space alone (else on all of it)" kind="resource" value={item} onChange={setItem} />
        </div>
      )}
      {what === 'hand_over' && (
        <div className="plain-combo mb-2">
          <Combo label="Who is asked instead" kind="person" value={to} onChange={setTo} />
        </div>
      )}
      {what === 'not_mine' && <p>The owner of it is asked, or a keeper.</p>}
      {ahead.data && (
        <>
          {ahead.data.refused > 0 && <p>{[...new Set(ahead.data.lines.filter((l) => l.reason).map((l) => l.reason))].join('; ')}</p>}
          {ahead.data.weighed && <WeighedText w={ahead.data.weighed} />}
        </>
      )}
      <Form.Group controlId="ra-why" className="mt-2">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

function End({ r, close }: { r: Round; close: () => void }) {
  const refresh = useRefresh()
  const [why, setWhy] = useState('')
  const go = useMutation({
    mutationFn: () => call<Round>('POST', `/api/v1/reviews/${r.id}/end`, { why: why.trim() }),
    onSuccess: () => {
      void refresh()
      close()
    },
  })
  return (
    <AskDialog danger title={`End ${r.name} now`} leave="Leave it open" submit="End it" disabled={go.isPending || why.trim() === ''} error={go.error} close={close} onSubmit={() => go.mutate()}>
      <p>{r.open === 0 ? 'Everything is answered.' : `${r.open === 1 ? 'One line is' : `${r.open} lines are`} not answered: what the rule says of silence is done with ${r.open === 1 ? 'it' : 'them'} now.`}</p>
      <Form.Group controlId="re-why">
        <Form.Label>Why before its day</Form.Label>
        <Form.Control size="sm" required value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
