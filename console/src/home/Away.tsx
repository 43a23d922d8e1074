import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Absence, type Session } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { useChange } from '../parts/change'
import { Combo } from '../parts/Combo'
import { dayFromNow, since, until } from '../parts/dates'

const useAbsences = () => useQuery({ queryKey: ['absences'], queryFn: () => call('GET /api/v1/absences') })

const counted = (n: number, one: string, many: string) => (n === 0 ? [] : [n === 1 ? `one ${one}` : `${n} ${many}`])
const waiting = (x: Absence) =>
  [...counted(x.requests, 'request', 'requests'), ...counted(x.lines, 'line of a review', 'lines of reviews')].join(' and ')

/** Those for whom whoever looks decides, as they are away. */
export function StandsIn({ session }: { session: Session }) {
  const list = useAbsences()
  const mine = (list.data?.absences ?? []).filter((x) => x.on && x.deputy !== undefined && x.deputy === session.person)
  if (mine.length === 0) return null
  return (
    <section aria-labelledby="h-stands-in">
      <h2 id="h-stands-in">You decide for others</h2>
      <ul className="todo">
        {mine.map((x) => (
          <li key={x.person}>
            <Link to={`/people/${x.person}`}>{x.name}</Link> is away until {until(x.until)} ({x.why}).{' '}
            {waiting(x) ? `Waiting for you in their place: ${waiting(x)}.` : 'Nothing of theirs waits.'}
          </li>
        ))}
      </ul>
    </section>
  )
}

/** Whether somebody of ours is away, who decides for them, and the way to say so. */
export function Away({ person, name, session }: { person: string; name: string; session: Session }) {
  const list = useAbsences()
  const [asking, setAsking] = useState(false)
  const back = useChange(() => call('DELETE /api/v1/absences/{person}', { path: { person } }))
  const x = list.data?.absences.find((a) => a.person === person)
  const may = session.person === person || session.role === 'keeper' || session.role === 'administrator'
  return (
    <section aria-labelledby="h-away">
      <h2 id="h-away">Away</h2>
      {x ? (
        <p>
          {x.on ? 'Away' : `Away from ${since(x.from)}`} until {until(x.until)}: {x.why}. <b>{x.deputy_name ?? 'A keeper'}</b> decides for{' '}
          {name} who gets what they ask for, and what is still needed.
          {waiting(x) && ` Waiting now: ${waiting(x)}.`}
        </p>
      ) : (
        <p className="quiet">{name} decides on requests and reviews.</p>
      )}
      {may && (
        <>
          <Button size="sm" variant="outline-primary" onClick={() => setAsking(true)}>
            {x ? 'Change' : 'Say when away'}
          </Button>{' '}
          {x && (
            <Button size="sm" variant="outline-secondary" disabled={back.isPending} onClick={() => back.mutate()}>
              Back again
            </Button>
          )}
        </>
      )}
      {asking && <AwayDialog person={person} name={name} was={x} close={() => setAsking(false)} />}
    </section>
  )
}

function AwayDialog({ person, name, was, close }: { person: string; name: string; was?: Absence; close: () => void }) {
  const [deputy, setDeputy] = useState(was?.deputy ? `person:${was.deputy}` : '')
  const [from, setFrom] = useState(was && !was.on ? was.from.slice(0, 10) : dayFromNow())
  const [last, setLast] = useState(dayFromNow(14))
  const [why, setWhy] = useState(was?.why ?? '')
  const today = from <= dayFromNow()
  const body = {
    person,
    until: last,
    ...(deputy.trim() ? { deputy: deputy.trim().replace(/^person:/, '') } : {}),
    ...(today ? {} : { from }),
  }
  const ahead = useQuery({
    queryKey: ['absence-ahead', JSON.stringify(body)],
    queryFn: () => call('POST /api/v1/absences', { query: { preview: true }, body }),
    enabled: last !== '',
    retry: false,
    gcTime: 0,
  })
  const go = useChange(() => call('POST /api/v1/absences', { body: { ...body, why: why.trim() } }), close)
  return (
    <AskDialog
      title={`${name} is away`}
      leave="Cancel"
      submit="Say so"
      disabled={go.isPending || why.trim() === '' || !ahead.data}
      error={go.error ?? ahead.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <div className="plain-combo mb-2">
        <Combo label="Who decides meanwhile (else a keeper)" kind="person" value={deputy} onChange={setDeputy} />
      </div>
      <div className="d-flex gap-2">
        <Form.Group controlId="aw-from" className="mb-2">
          <Form.Label>From</Form.Label>
          <Form.Control size="sm" type="date" value={from} onChange={(e) => setFrom(e.target.value)} />
        </Form.Group>
        <Form.Group controlId="aw-until" className="mb-2">
          <Form.Label>Last day</Form.Label>
          <Form.Control size="sm" type="date" value={last} onChange={(e) => setLast(e.target.value)} />
        </Form.Group>
      </div>
      {ahead.data && (
        <p>
          {ahead.data.deputy_name ?? 'A keeper'} decides {today ? 'from now on' : 'then'}: {waiting(ahead.data) || 'nothing'}{' '}
          {ahead.data.requests + ahead.data.lines > 1 ? 'wait' : 'waits'} for {name} now.
        </p>
      )}
      <Form.Group controlId="aw-why">
        <Form.Label>Why (whoever decides meanwhile reads it)</Form.Label>
        <Form.Control size="sm" value={why} maxLength={500} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
