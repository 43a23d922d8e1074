import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Modal } from '../parts/Dialog'
import { Link, useLocation } from 'react-router'
import { call, type Letter, type Partner, type Question } from '../api'
import { since, when, Wrong } from '../parts/bits'

/** Letters as lines: about what, since when, and what became of them. */
export function Letters({ all, named, open }: { all: Letter[]; named?: boolean; open?: (id: string) => void }) {
  return (
    <ul className="history letters">
      {all.map((l) => (
        <li key={l.id}>
          {named && (
            <>
              <Link to={`/partners/${l.partner}`}>{l.name}</Link>:{' '}
            </>
          )}
          <b>{l.about.join(', ')}</b>,{' '}
          {l.state === 'open' ? `${l.age} ${l.age === 1 ? 'day' : 'days'} without an answer` : `${l.state} after ${l.age} days`}
          <span className="sub">
            {l.sent && `sent ${since(l.sent)}`}
            {l.to && ` to ${l.to}`}
            {l.said && `: ${l.said}`}{' '}
            {open && (
              <Button size="sm" variant="link" onClick={() => open(l.id)}>
                Read
              </Button>
            )}
          </span>
        </li>
      ))}
    </ul>
  )
}

/** The letters of a partner: those sent, and one to be written. */
export function PartnerLetters({ p, keep }: { p: Partner; keep: boolean }) {
  const { hash } = useLocation()
  const seen = useRef<HTMLHeadingElement>(null)
  const [reading, setReading] = useState<string>()
  const letters = useQuery({ queryKey: ['letters', p.id], queryFn: () => call('GET /api/v1/letters', { query: { partner: p.id } }) })
  const there = letters.data !== undefined
  useEffect(() => {
    if (there && hash === '#h-letter') seen.current?.scrollIntoView() // a link that leads here comes before what stands above is there
  }, [there, hash])
  return (
    <section aria-labelledby="h-letter">
      <h2 id="h-letter" ref={seen}>
        Letters to their administrator
      </h2>
      {letters.error && <Wrong error={letters.error} />}
      {letters.data && <Letters all={letters.data.letters} open={setReading} />}
      {letters.data?.letters.length === 0 && <p className="quiet">None was sent yet.</p>}
      {keep && <Draft about={{ partner: p.id }} />}
      {reading && <Reading id={reading} keep={keep} close={() => setReading(undefined)} />}
    </section>
  )
}

/** Writes a letter about a partner or a refused question, to be copied and kept as sent. */
export function Draft({ about }: { about: { partner: string } | { question: Question } }) {
  const client = useQueryClient()
  const [draft, setDraft] = useState<Letter>()
  const write = useMutation({
    mutationFn: (what: 'preview' | 'keep' | 'mail') =>
      call('POST /api/v1/letters', {
        query: { preview: what === 'preview' },
        body: { ...about, form: 'text', mail: what !== 'keep', ...(what !== 'preview' && draft?.same ? { again: true } : {}) },
      }),
    onSuccess: (l, what) => {
      setDraft(l)
      if (what !== 'preview') void client.invalidateQueries({ queryKey: ['letters'] })
    },
  })
  return (
    <>
      {write.error && <Wrong error={write.error} />}
      {!draft && (
        <Button size="sm" variant="outline-primary" onClick={() => write.mutate('preview')} disabled={write.isPending}>
          Write what they need to admit
        </Button>
      )}
      {draft && (
        <>
          <pre className="letter" tabIndex={0} aria-label="Letter to their administrator">
            {draft.text}
          </pre>
          {!draft.id && draft.about.length > 0 && (
            <p className="quiet">
              {draft.mailed ? `Mailed, it goes to ${draft.mailed.join(', ')}.` : `It cannot be mailed: ${draft.not_mailed}.`}
            </p>
          )}
          {!draft.id && draft.same && (
            <p className="second">Open on the same matter: {draft.same.join(', ')}. This would be a second one.</p>
          )}
          <div className="inline-form">
            <Button size="sm" variant="outline-primary" onClick={() => void navigator.clipboard.writeText(draft.text ?? '')}>
              Copy
            </Button>
            {!draft.id && draft.about.length > 0 && (
              <>
                <Button size="sm" onClick={() => write.mutate('mail')} disabled={write.isPending || !draft.mailed}>
                  Mail it
                </Button>
                <Button size="sm" variant="outline-primary" onClick={() => write.mutate('keep')} disabled={write.isPending}>
                  Keep as sent
                </Button>
              </>
            )}
            {draft.id && (
              <span role="status">
                Kept as {draft.id}. {draft.mailed ? `In the outbox for ${draft.mailed.join(', ')}.` : `Not mailed: ${draft.not_mailed}.`}
              </span>
            )}
            <Button size="sm" variant="link" onClick={() => setDraft(undefined)}>
              Close
            </Button>
          </div>
        </>
      )}
    </>
  )
}

function Reading({ id, keep, close }: { id: string; keep: boolean; close: () => void }) {
  const client = useQueryClient()
  const [said, setSaid] = useState('')
  const letter = useQuery({
    queryKey: ['letter', id],
    queryFn: () => call('GET /api/v1/letters/{id}', { path: { id }, query: { form: 'text' } }),
  })
  const end = useMutation({
    mutationFn: (answer: 'admitted' | 'refused' | 'withdrawn') =>
      call('POST /api/v1/letters/{id}/close', { path: { id }, body: { answer, ...(said ? { said } : {}) } }),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['letters'] })
      close()
    },
  })
  const l = letter.data
  return (
    <Modal show policy={false} onHide={close} size="lg" aria-labelledby="letter-title">
      <Modal.Header closeButton>
        <Modal.Title id="letter-title" as="h2">
          Letter {id}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {(letter.error ?? end.error) && <Wrong error={letter.error ?? end.error} />}
        {l && (
          <>
            <p>
              {l.sent && `Sent ${when(l.sent)}`} {l.to && `to ${l.to}`}.{' '}
              {l.state === 'open'
                ? 'No answer yet; a stance that answers it closes it.'
                : `${l.state[0].toUpperCase()}${l.state.slice(1)}${l.said ? `: ${l.said}` : ''}.`}
            </p>
            <pre className="letter" tabIndex={0} aria-label="Text of the letter">
              {l.text}
            </pre>
            {keep && l.state === 'open' && (
              <Form className="inline-form" onSubmit={(e) => e.preventDefault()}>
                <Form.Control
                  size="sm"
                  aria-label="What they said"
                  placeholder="what they said"
                  value={said}
                  onChange={(e) => setSaid(e.target.value)}
                />
                <Button size="sm" variant="outline-primary" onClick={() => end.mutate('admitted')}>
                  They admit it
                </Button>
                <Button size="sm" variant="outline-primary" onClick={() => end.mutate('refused')}>
                  They refuse
                </Button>
                <Button size="sm" variant="link" onClick={() => end.mutate('withdrawn')}>
                  Withdraw
                </Button>
              </Form>
            )}
          </>
        )}
      </Modal.Body>
    </Modal>
  )
}
