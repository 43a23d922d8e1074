import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call } from '../api'
import { Waiting, Wrong } from '../parts/bits'
import { OwnPasskeys } from './OwnPasskeys'
import { Bundles } from './Bundles'
import { Languages, Sill } from './Sill'
import { dayIn, languageOf, words, type Language } from './words'

/** A guest's own page: what I reach, until when, who answers for me, more time, new terms, leaving. */
export function OwnPage({ out }: { out: () => void }) {
  const client = useQueryClient()
  const own = useQuery({ queryKey: ['own'], queryFn: () => call('GET /api/v1/own') })
  const [agreed, setAgreed] = useState(false)
  const [name, setName] = useState('')
  const [asking, setAsking] = useState(false)
  const [leaving, setLeaving] = useState(false)
  const [left, setLeft] = useState<Language>()
  const [why, setWhy] = useState('')
  const [until, setUntil] = useState('')
  const again = () => void client.invalidateQueries({ queryKey: ['own'] })
  const accept = useMutation({
    mutationFn: () => call('POST /api/v1/own/accept', { body: { terms: agreed, ...(name.trim() ? { name } : {}) } }),
    onSuccess: () => {
      setAgreed(false)
      again()
    },
  })
  const more = useMutation({
    mutationFn: () => call('POST /api/v1/own/more', { body: { text: why, ...(until ? { until } : {}) } }),
    onSuccess: () => {
      setAsking(false)
      setWhy('')
      again()
    },
  })
  const speak = useMutation({
    mutationFn: (language: Language) => call('POST /api/v1/own/language', { body: { language } }),
    onSuccess: again,
  })
  const leave = useMutation({ mutationFn: () => call('POST /api/v1/own/leave'), onSuccess: () => setLeft(languageOf(own.data?.language)) })
  if (left) return <Sill language={left} organisation={own.data?.organisation} title={words[left].leave} lead={words[left].left} />
  if (own.error) return <Wrong error={own.error} retry={() => void own.refetch()} />
  if (!own.data) return <Waiting what="…" />
  const x = own.data
  const l = languageOf(x.language)
  const t = words[l]
  const invited = x.state === 'invited'
  const wrong = accept.error ?? more.error ?? leave.error ?? speak.error
  const places = (
    <section aria-labelledby="own-open">
      <h2 id="own-open">{invited ? t.willOpen : t.open}</h2>
      {x.places.length === 0 && <p>{t.nothing}</p>}
      <ul className="own-places">
        {x.places.map((p) => (
          <li key={p.name}>
            <h3>{p.name}</h3>
            <p>
              {t.verbs[p.role ?? 'view']}
              {p.until && <span className="own-until">{t.until(dayIn(p.until, l))}</span>}
            </p>
            {p.items && p.items.length > 0 && <p className="own-items">{p.items.join(' · ')}</p>}
          </li>
        ))}
      </ul>
      {x.more && x.more.some((m) => t.can[m]) && (
        <p className="own-items">
          {t.besides}: {[...new Set(x.more.filter((m) => t.can[m]).map((m) => t.can[m]))].join(', ')}.
        </p>
      )}
    </section>
  )
  return (
    <Sill
      language={l}
      organisation={x.organisation}
      title={invited || x.terms_owed ? (x.terms_accepted ? t.termsTitle : t.before) : t.hello(x.name ?? '')}
      lead={x.purpose || (x.name ? undefined : x.address)}
    >
      {wrong && <Wrong error={wrong} />}
      {(invited || x.terms_owed) && (
        <>
          {places}
          <section aria-labelledby="own-terms">
            <h2 id="own-terms">{t.terms}</h2>
            <p className="own-terms">{x.terms}</p>
            <Form
              onSubmit={(e) => {
                e.preventDefault()
                accept.mutate()
              }}
            >
              {!x.name && (
                <Form.Group controlId="own-name" className="mb-3">
                  <Form.Label>{t.name}</Form.Label>
                  <Form.Control autoComplete="name" maxLength={200} value={name} onChange={(e) => setName(e.target.value)} />
                </Form.Group>
              )}
              {x.terms_owed && (
                <Form.Check id="own-agree" required label={t.agree} checked={agreed} onChange={(e) => setAgreed(e.target.checked)} />
              )}
              <Button type="submit" className="w-100 mt-3" disabled={accept.isPending || (x.terms_owed && !agreed)}>
                {t.accept}
              </Button>
            </Form>
          </section>
        </>
      )}
      {!invited && !x.terms_owed && (
        <>
          {x.landing && (
            <p>
              <a className="btn btn-primary w-100" href={x.landing}>
                {t.on} {new URL(x.landing).host}
              </a>
            </p>
          )}
          {places}
          <Bundles at="own" language={l} />
          <section aria-labelledby="own-stay">
            <h2 id="own-stay">{t.stay}</h2>
            <p>{x.until ? t.stayUntil(dayIn(x.until, l)) : t.stayOpen}</p>
            {x.until_because && t.because[x.until_because] && <p className="own-items">{t.because[x.until_because]}</p>}
            {x.wish?.state === 'open' && <p role="status">{t.asked}</p>}
            {x.wish?.state === 'refused' && (
              <p>
                {t.refused} {x.wish.answer}
              </p>
            )}
            {!asking && x.wish?.state !== 'open' && (
              <Button variant="outline-primary" onClick={() => setAsking(true)}>
                {t.more}
              </Button>
            )}
            {asking && (
              <Form
                onSubmit={(e) => {
                  e.preventDefault()
                  more.mutate()
                }}
              >
                <Form.Group controlId="own-why" className="mb-2">
                  <Form.Label>{t.moreWhy}</Form.Label>
                  <Form.Control as="textarea" rows={2} required maxLength={1000} value={why} onChange={(e) => setWhy(e.target.value)} />
                </Form.Group>
                <Form.Group controlId="own-until" className="mb-3">
                  <Form.Label>{t.moreUntil}</Form.Label>
                  <Form.Control type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
                </Form.Group>
                <Button type="submit" disabled={more.isPending}>
                  {t.ask}
                </Button>
              </Form>
            )}
          </section>
          {x.sponsor && (
            <section aria-labelledby="own-sponsor">
              <h2 id="own-sponsor">{t.sponsor}</h2>
              <p>
                {x.sponsor}
                {x.sponsor_address && (
                  <>
                    , <a href={`mailto:${x.sponsor_address}`}>{x.sponsor_address}</a>
                  </>
                )}
              </p>
            </section>
          )}
          <OwnPasskeys language={l} />
          {x.may_leave && (
            <section aria-labelledby="own-leave">
              <h2 id="own-leave">{t.leave}</h2>
              {!leaving && (
                <Button variant="outline-secondary" onClick={() => setLeaving(true)}>
                  {t.leave}
                </Button>
              )}
              {leaving && (
                <>
                  <p>{t.leaveWhy}</p>
                  <Button variant="danger" disabled={leave.isPending} onClick={() => leave.mutate()}>
                    {t.leaveSure}
                  </Button>{' '}
                  <Button variant="outline-secondary" onClick={() => setLeaving(false)}>
                    {t.stayHere}
                  </Button>
                </>
              )}
            </section>
          )}
        </>
      )}
      <footer>
        <Languages value={l} choose={(v) => speak.mutate(v)} />
        <button type="button" className="btn btn-link" onClick={out}>
          {t.out}
        </button>
      </footer>
    </Sill>
  )
}
