import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate, useSearchParams } from 'react-router'
import { call, query, type Question, type Request, type Session } from '../api'
import { when, Wrong } from '../parts/bits'
import { ApproveBundle } from '../bundles/ApproveBundle'
import { AskDialog } from '../parts/AskDialog'
import { Combo } from '../parts/Combo'
import { StoredChange } from '../places/PlaceDialog'

const states = {
  open: 'open',
  drafted: 'a draft was made of it',
  answered: 'answered',
  refused: '▼ no',
  works: '▲ works now',
  withdrawn: 'taken back',
  lapsed: '▼ nobody answered in time',
}

/** Requests of our people: what they asked for, and what became of it. */
export function Requests({ session }: { session: Session }) {
  const found = useQuery({ queryKey: ['requests'], queryFn: () => call('GET /api/v1/requests') })
  if (found.error) return <Wrong error={found.error} />
  const list = found.data?.requests ?? []
  if (list.length === 0) return null
  return (
    <section className="requests" aria-labelledby="h-requests">
      <h2 id="h-requests">Requests</h2>
      <ul>
        {list.map((r) => (
          <One key={r.id} r={r} session={session} />
        ))}
      </ul>
    </section>
  )
}

function One({ r, session }: { r: Request; session: Session }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [text, setText] = useState('')
  const own = r.by === session.name
  const deciding = r.bundle?.steps.find((s) => !s.given)?.deciding
  const over = ['refused', 'works', 'withdrawn', 'lapsed'].includes(r.state)
  const done = () => void client.invalidateQueries({ queryKey: ['requests'] })
  const answer = useMutation({
    mutationFn: (refuse: boolean) => call('POST /api/v1/requests/{id}/answer', { path: { id: r.id }, body: { text, refuse } }),
    onSuccess: done,
  })
  const heard = useMutation({ mutationFn: () => call('POST /api/v1/requests/{id}/heard', { path: { id: r.id } }), onSuccess: done })
  const draft = useMutation({
    mutationFn: () => call('POST /api/v1/requests/{id}/draft', { path: { id: r.id }, body: {} }),
    onSuccess: (d) => {
      done()
      navigate(`/drafts/${d.id}`)
    },
  })
  const withdraw = useMutation({ mutationFn: () => call('POST /api/v1/requests/{id}/withdraw', { path: { id: r.id } }), onSuccess: done })
  const mayAnswer = !over && (r.bundle ? r.bundle.may : !(session.role === 'member' && own) && session.role !== 'auditor')
  const [params] = useSearchParams() // a mail leads to one of them
  const [doing, setDoing] = useState(mayAnswer && params.get('request') === r.id)
  const [handing, setHanding] = useState(false)
  const [to, setTo] = useState('')
  const hand = useMutation({
    mutationFn: () => call('POST /api/v1/requests/{id}/hand-over', { path: { id: r.id }, body: { to: to.trim().replace(/^person:/, '') } }),
    onSuccess: () => {
      setHanding(false)
      done()
    },
  })
  const q = r.question
  const ask =
    q &&
    `/ask${query({ who: q.subject, action: q.action, resource: q.resource, address: q.context?.address, presenter: q.context?.presenter })}`
  const keeps = session.role === 'administrator' || session.role === 'keeper'
  // Values at places are set by their owners and hosts and by administrators.
  const notTheirs = session.role === 'keeper' && r.value !== undefined && !r.value.where.startsWith('partner:')
  const error = answer.error ?? heard.error ?? draft.error ?? withdraw.error
  return (
    <li>
      <p className="request-line">
        {ask ? <Link to={ask}>{r.title}</Link> : <b>{r.title}</b>} <span className={`tag is-${r.state}`}>{states[r.state]}</span>
      </p>
      <p className="quiet">
        {own ? 'You' : (r.sign_up?.address ?? r.by.replace(/^guest:/, ''))}, {when(r.made)}: {r.purpose}.{' '}
        {!over && `It goes to ${r.to_names.join(', ')}${deciding ? `; now ${deciding.join(' or ')} decides` : ''}.`}{' '}
        {r.draft && (
          <>
            <Link to={`/drafts/${r.draft}`}>The draft</Link>.{' '}
          </>
        )}
        {r.answer && (
          <>
            {r.closer}: <b>{r.answer}</b>
          </>
        )}
      </p>
      {error && <Wrong error={error} />}
      {mayAnswer && (
        <Form className="inline-form" onSubmit={(e) => e.preventDefault()} aria-label={`Answer ${r.id}`}>
          {!q && !notTheirs && (
            <Button size="sm" onClick={() => setDoing(true)}>
              {r.sign_up ? 'Let them in' : r.bundle ? 'Look at it' : 'Do it'}
            </Button>
          )}
          {q && keeps && r.state !== 'drafted' && (
            <Button size="sm" disabled={draft.isPending} onClick={() => draft.mutate()}>
              Make a draft of it
            </Button>
          )}
          {r.bundle && (
            <Button size="sm" variant="outline-primary" onClick={() => setHanding(true)}>
              Somebody else decides
            </Button>
          )}
          <Form.Control
            size="sm"
            aria-label={`Answer to ${r.id}`}
            placeholder={r.bundle || r.sign_up ? 'Why not' : 'An answer, or why not'}
            value={text}
            maxLength={2000}
            onChange={(e) => setText(e.target.value)}
          />
          {!r.sign_up && !r.bundle && (
            <Button
              size="sm"
              variant="outline-primary"
              disabled={text.trim() === '' || answer.isPending}
              onClick={() => answer.mutate(false)}
            >
              Answer
            </Button>
          )}
          <Button size="sm" variant="outline-danger" disabled={text.trim() === '' || answer.isPending} onClick={() => answer.mutate(true)}>
            Say no
          </Button>
        </Form>
      )}
      {handing && (
        <AskDialog
          title="Ask somebody else"
          leave="Cancel"
          submit="Ask them"
          disabled={hand.isPending || to.trim() === ''}
          error={hand.error}
          close={() => setHanding(false)}
          onSubmit={() => hand.mutate()}
        >
          <p>{r.title}. They decide instead of you, and hear of it by mail.</p>
          <div className="plain-combo">
            <Combo label="Who is asked instead" kind="person" value={to} onChange={setTo} />
          </div>
        </AskDialog>
      )}
      {r.bundle && !over && own && (
        <Button size="sm" variant="outline-secondary" disabled={withdraw.isPending} onClick={() => withdraw.mutate()}>
          Take it back
        </Button>
      )}
      {doing && r.bundle && <ApproveBundle r={r} asked={r.bundle} close={() => setDoing(false)} />}
      {doing && !r.bundle && (
        <StoredChange
          title={r.title}
          leave="Leave it"
          submit={r.sign_up ? 'Let them in' : 'Do it'}
          done={r.sign_up ? 'They may come in' : 'Done as asked'}
          to="POST /api/v1/requests/{id}/do"
          path={{ id: r.id }}
          reason={r.purpose}
          close={() => setDoing(false)}
        >
          {() =>
            r.sign_up ? (
              <dl className="said">
                {r.sign_up.asked.map((q, i) => (
                  <div key={q}>
                    <dt>{q}</dt>
                    <dd>{r.sign_up?.said[i]}</dd>
                  </div>
                ))}
              </dl>
            ) : (
              <p>
                {r.by} asks for it: {r.purpose}
              </p>
            )
          }
        </StoredChange>
      )}
      {own && !r.heard && (over || r.state === 'answered') && (
        <Button size="sm" variant="outline-secondary" disabled={heard.isPending} onClick={() => heard.mutate()}>
          I have seen it
        </Button>
      )}
    </li>
  )
}

/** Sends a refused question to whoever can change it. */
export function AskFor({ question }: { question: Question }) {
  const client = useQueryClient()
  const [purpose, setPurpose] = useState('')
  const send = useMutation({
    mutationFn: () => call('POST /api/v1/requests', { body: { question: { ...question, at: undefined }, purpose: purpose.trim() } }),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['requests'] }),
  })
  if (send.data)
    return (
      <p className="sent" role="status">
        Sent to {send.data.to_names.join(', ')}. Under Today you hear when it works.
      </p>
    )
  return (
    <Form
      className="inline-form ask-for"
      aria-label="Ask for it"
      onSubmit={(e) => {
        e.preventDefault()
        send.mutate()
      }}
    >
      <Form.Control
        size="sm"
        aria-label="What it is for"
        placeholder="What it is for"
        value={purpose}
        maxLength={1000}
        onChange={(e) => setPurpose(e.target.value)}
      />
      <Button size="sm" type="submit" variant="outline-primary" disabled={purpose.trim() === '' || send.isPending}>
        Send it to whoever can change it
      </Button>
      {send.error && <Wrong error={send.error} />}
    </Form>
  )
}
