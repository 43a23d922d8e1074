import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate, useParams } from 'react-router'
import { call, type PlaceEntry, type Session } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { DomainLists } from './DomainLists'
import { MeetingDialog, type Meeting } from './MeetingForms'
import { CloseDialog } from './SpaceForms'
import { ValueTable } from './ValueTable'

const meetingOf = (e: PlaceEntry): Meeting => ({ ...(e.fields as Omit<Meeting, 'id'>), id: e.id, names: e.names ?? {} })

/** Every meeting, and a new one. */
export function MeetingsPage({ session }: { session: Session }) {
  const [q, setQ] = useState('')
  const [making, setMaking] = useState(false)
  const meetings = useInfiniteQuery({
    queryKey: ['meetings', q],
    queryFn: ({ pageParam }) => call('GET /api/v1/places/{kind}', { path: { kind: 'meeting' }, query: { q, cursor: pageParam } }),
    initialPageParam: '',
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (old) => old,
  })
  const list = meetings.data?.pages.flatMap((p) => p.entries).map(meetingOf) ?? []
  return (
    <Page
      title="Meetings"
      lead="Who hosts, from which domains people may come, and whether a passcode is asked."
      tools={
        <>
          <Form.Control
            size="sm"
            type="search"
            aria-label="Find meetings"
            placeholder="name or id"
            value={q}
            onChange={(e) => setQ(e.target.value)}
          />
          {session.role !== 'auditor' && (
            <Button size="sm" onClick={() => setMaking(true)}>
              New meeting
            </Button>
          )}
        </>
      }
    >
      {meetings.error && <Wrong error={meetings.error} retry={() => void meetings.refetch()} />}
      {!meetings.data && !meetings.error && <Waiting what="Reading meetings" />}
      {meetings.data && list.length === 0 && (
        <Empty>{q ? `No meeting matches “${q}”.` : 'There is no meeting yet. Make the first one with “New meeting”.'}</Empty>
      )}
      {list.length > 0 && (
        <div className="wide" role="region" aria-label="All meetings" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Meeting</th>
                <th scope="col">Host</th>
                <th scope="col">Space</th>
                <th scope="col">Only from</th>
                <th scope="col">Passcode</th>
              </tr>
            </thead>
            <tbody>
              {list.map((m) => (
                <tr key={m.id}>
                  <th scope="row">
                    <Link to={`/meetings/${m.id}`}>{m.name || m.id}</Link>
                    {m.standing_room === 'yes' && <span className="sub">standing room</span>}
                  </th>
                  <td>{m.names[m.host ?? ''] ?? m.host}</td>
                  <td>{m.space ? <Link to={`/spaces/${m.space}`}>{m.names[m.space] ?? m.space}</Link> : '–'}</td>
                  <td>{[...(m.sign_in_domains ?? []), ...(m.sign_in_lists ?? []).map((l) => m.names[l] ?? l)].join(', ') || '–'}</td>
                  <td>{m.passcode === 'yes' ? 'yes' : 'no'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {meetings.hasNextPage && (
        <Button size="sm" variant="outline-primary" className="more" onClick={() => void meetings.fetchNextPage()}>
          More
        </Button>
      )}
      <DomainLists edit={session.role === 'administrator' || session.role === 'keeper'} />
      {making && <MeetingDialog person={session.person} close={() => setMaking(false)} />}
    </Page>
  )
}

/** One meeting: how it is set up, and the rules at its door. */
export function MeetingPage({ session }: { session: Session }) {
  const { id = '' } = useParams()
  const navigate = useNavigate()
  const [asking, setAsking] = useState<'change' | 'remove'>()
  const meeting = useQuery({
    queryKey: ['meeting', id],
    queryFn: () => call('GET /api/v1/places/{kind}', { path: { kind: 'meeting' }, query: { id } }),
  })
  const values = useQuery({
    queryKey: ['values', `meeting:${id}`],
    queryFn: () => call('GET /api/v1/values/{where}', { path: { where: `meeting:${id}` } }),
  })
  if (!meeting.data)
    return (
      <Page title={id}>
        {meeting.error ? <Wrong error={meeting.error} retry={() => void meeting.refetch()} /> : <Waiting what="Reading the meeting" />}
      </Page>
    )
  const m = meetingOf(meeting.data.entries[0])
  const edit = session.role !== 'auditor' // what is not theirs they ask for
  const person = (p?: string) =>
    p ? session.role === 'member' ? (m.names[p] ?? p) : <Link to={`/people/${p}`}>{m.names[p] ?? p}</Link> : '–'
  return (
    <Page
      title={m.name || m.id}
      lead={
        <>
          {m.standing_room === 'yes' ? 'A standing room' : 'A meeting'} of {m.names[m.host ?? ''] ?? m.host}.
        </>
      }
      tools={
        <>
          <Link className="btn btn-sm btn-outline-primary" to={`/audience?resource=${encodeURIComponent(`meeting:${m.id}`)}`}>
            Who can join
          </Link>
          {edit && (
            <Button size="sm" onClick={() => setAsking('change')}>
              Change
            </Button>
          )}
          {edit && (
            <Button size="sm" variant="outline-danger" onClick={() => setAsking('remove')}>
              Remove
            </Button>
          )}
        </>
      }
    >
      <div className="partner">
        <section aria-labelledby="h-door">
          <h2 id="h-door">Rules at its door</h2>
          {values.error && <Wrong error={values.error} />}
          {values.data && (
            <ValueTable
              values={values.data}
              edit={session.role === 'administrator' || (session.role === 'member' && m.host === session.person)}
              ask={session.role !== 'auditor'}
            />
          )}
        </section>
        <section aria-labelledby="h-meeting">
          <h2 id="h-meeting">The meeting</h2>
          <dl className="facts">
            <dt>Host</dt>
            <dd>{person(m.host)}</dd>
            <dt>Space</dt>
            <dd>{m.space ? <Link to={`/spaces/${m.space}`}>{m.names[m.space] ?? m.space}</Link> : 'none'}</dd>
            <dt>Only from</dt>
            <dd>
              {[...(m.sign_in_domains ?? []), ...(m.sign_in_lists ?? []).map((l) => `the list ${m.names[l] ?? l}`)].join(', ') ||
                'whoever the rules admit'}
            </dd>
            <dt>Passcode</dt>
            <dd>{m.passcode === 'yes' ? 'yes' : 'no'}</dd>
            <dt>Held</dt>
            <dd>{m.repeats ?? 'once'}</dd>
            {m.waiting_text && (
              <>
                <dt>Shown to those waiting</dt>
                <dd>{m.waiting_text}</dd>
              </>
            )}
          </dl>
        </section>
      </div>
      {asking === 'change' && <MeetingDialog x={m} close={() => setAsking(undefined)} />}
      {asking === 'remove' && (
        <CloseDialog
          kind="meeting"
          id={m.id}
          name={m.name || m.id}
          remove
          close={() => setAsking(undefined)}
          done={() => navigate('/meetings')}
        />
      )}
    </Page>
  )
}
