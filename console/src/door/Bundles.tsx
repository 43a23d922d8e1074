import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, Failure, type Askable, type BundleFor, type Given } from '../api'
import { dayIn, words, type Language } from './words'

/** What somebody outside asks for. */
type Asked = Given<'POST /api/v1/door/bundles'>['body']

/** The bundles that somebody outside may ask for or holds, what they asked for, and what became of it. */
export function Bundles({ at, language }: { at: 'door' | 'own'; language: Language }) {
  const t = words[language]
  const found = useQuery({
    queryKey: ['askable', at],
    queryFn: () => call(`POST /api/v1/${at}/bundles`, { body: { language } }),
    retry: false,
  })
  const [asked, setAsked] = useState<Askable>()
  const send = useMutation({
    mutationFn: (body: Asked) => call(`POST /api/v1/${at}/bundles`, { body: { ...body, language } }),
    onSuccess: setAsked,
  })
  const x = asked ?? found.data
  const error = send.error ?? found.error
  if (!x && !error) return null
  return (
    <>
      {error && (
        <p className="sill-wrong" role="alert">
          {!(error instanceof Failure)
            ? t.failed.again
            : error.problem.status === 401
              ? t.provedOver
              : error.problem.status === 429
                ? t.tooOften
                : (error.problem.detail ?? error.problem.title)}
        </p>
      )}
      {x && x.bundles.length > 0 && (
        <section aria-labelledby="own-bundles">
          <h2 id="own-bundles">{t.bundles}</h2>
          <ul className="own-places">
            {x.bundles.map((b) => (
              <One key={b.id} b={b} language={language} busy={send.isPending} send={send.mutate} />
            ))}
          </ul>
        </section>
      )}
      {x && x.past.length > 0 && (
        <section aria-labelledby="own-past">
          <h2 id="own-past">{t.bundlesPast}</h2>
          <ul className="own-places">
            {x.past.map((r) => (
              <li key={r.id}>
                <h3>{r.name}</h3>
                <p>{t.bundleStates[r.state]}</p>
                {r.answer && <p className="own-items">{r.answer}</p>}
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  )
}

function One({
  b,
  language,
  busy,
  send,
}: {
  b: BundleFor
  language: Language
  busy: boolean
  send: (body: Record<string, unknown>) => void
}) {
  const t = words[language]
  const [asking, setAsking] = useState(false)
  const [said, setSaid] = useState<string[]>([])
  const [purpose, setPurpose] = useState('')
  const [end, setEnd] = useState('')
  return (
    <li>
      <h3>{b.name}</h3>
      <p>
        {b.gives.map((g) => `${g.name}: ${t.verbs[g.role]}`).join('; ')}
        {b.holds && b.until && <span className="own-until">{t.until(dayIn(b.until, language))}</span>}
      </p>
      {b.asked && (
        <p role="status">
          {t.bundleAsked}{' '}
          <Button size="sm" variant="link" disabled={busy} onClick={() => send({ withdraw: b.asked?.id })}>
            {t.bundleBack}
          </Button>
        </p>
      )}
      {!b.asked && b.shut && <p className="own-items">{b.shut}</p>}
      {!b.asked && !b.shut && !asking && (
        <Button className="mt-1" variant="outline-primary" onClick={() => setAsking(true)}>
          {b.holds ? t.bundleMore : t.bundleAsk}
        </Button>
      )}
      {asking && !b.asked && (
        <Form
          onSubmit={(e) => {
            e.preventDefault()
            send({
              bundle: b.id,
              answers: b.questions.map((_, i) => said[i] ?? ''),
              purpose: purpose.trim(),
              ...(end ? { until: end } : {}),
            })
          }}
        >
          {b.questions.map((q, i) => (
            <Form.Group key={q} controlId={`b-${b.id}-${i}`} className="mb-2">
              <Form.Label>{q}</Form.Label>
              <Form.Control
                required
                maxLength={500}
                value={said[i] ?? ''}
                onChange={(e) => setSaid(Object.assign([...said], { [i]: e.target.value }))}
              />
            </Form.Group>
          ))}
          <Form.Group controlId={`b-${b.id}-why`} className="mb-2">
            <Form.Label>{t.moreWhy}</Form.Label>
            <Form.Control as="textarea" rows={2} required maxLength={1000} value={purpose} onChange={(e) => setPurpose(e.target.value)} />
          </Form.Group>
          <Form.Group controlId={`b-${b.id}-until`} className="mb-3">
            <Form.Label>
              {t.moreUntil} {b.most && <span className="own-items">{t.bundleMost(dayIn(b.most, language))}</span>}
            </Form.Label>
            <Form.Control type="date" value={end} onChange={(e) => setEnd(e.target.value)} />
          </Form.Group>
          <Button type="submit" disabled={busy}>
            {t.ask}
          </Button>
        </Form>
      )}
    </li>
  )
}
