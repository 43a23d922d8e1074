import { Button, Form } from 'react-bootstrap'
import { useState, type FormEvent } from 'react'
import { call, Failure, remember, type DoorStep, type Session } from '../api'
import { Bundles } from './Bundles'
import { words, type Language } from './words'
import { Sill, Languages } from './Sill'

/** What comes between proving an address and a page of one's own: questions, waiting, a no; or a course joined. */
export function Before({
  step,
  met,
  language,
  choose,
  organisation,
  done,
}: {
  step: DoorStep
  met: (s: DoorStep) => void
  language: Language
  choose: (l: Language) => void
  organisation?: string
  done: (s: Session) => void
}) {
  const t = words[language]
  const [said, setSaid] = useState<string[]>([])
  const [again, setAgain] = useState(false)
  const [error, setError] = useState('')
  const [busy, setBusy] = useState(false)
  const speak = (l: Language) => {
    choose(l)
    if (step.step !== 'joined' && step.step !== 'bundles')
      call('POST /api/v1/door/sign-up', { body: { language: l } })
        .then((x) => 'step' in x && met(x))
        .catch(() => setError(words[l].provedOver))
  }
  const send = async (e: FormEvent) => {
    e.preventDefault()
    setBusy(true)
    setError('')
    try {
      const s = await call('POST /api/v1/door/sign-up', {
        body: { answers: (step.questions ?? []).map((_, i) => said[i] ?? ''), language },
      })
      if ('step' in s) {
        setAgain(false)
        met(s)
      } else {
        remember(s)
        done(s)
      }
    } catch (err) {
      setError(
        !(err instanceof Failure)
          ? t.failed.again
          : err.problem.status === 429
            ? t.tooOften
            : err.problem.status === 401
              ? t.provedOver
              : (err.problem.detail ?? err.problem.title),
      )
    } finally {
      setBusy(false)
    }
  }
  const asks = step.step === 'questions' || again
  const [title, lead] =
    step.step === 'bundles'
      ? [t.bundlesTitle, t.bundlesLead(step.address)]
      : asks
        ? [t.signUpTitle, t.signUpLead(step.address)]
        : step.step === 'waiting'
          ? [t.waitTitle, t.waitLead(step.address)]
          : step.step === 'refused'
            ? [t.noTitle, t.noLead]
            : [t.joinedTitle(step.space ?? ''), t.joinedLead(step.space ?? '', step.address)]
  return (
    <Sill language={language} organisation={organisation} title={title} lead={lead}>
      {error && (
        <p className="sill-wrong" role="alert">
          {error}
        </p>
      )}
      {step.step === 'bundles' && <Bundles at="door" language={language} />}
      {asks && (
        <Form onSubmit={(e) => void send(e)}>
          {(step.questions ?? []).map((q, i) => (
            <Form.Group key={q} controlId={`door-q${i}`} className="mb-3">
              <Form.Label>{q}</Form.Label>
              <Form.Control
                required
                maxLength={500}
                value={said[i] ?? ''}
                onChange={(e) => setSaid(Object.assign([...said], { [i]: e.target.value }))}
              />
            </Form.Group>
          ))}
          <Button type="submit" className="w-100" disabled={busy}>
            {t.signUpSend}
          </Button>
        </Form>
      )}
      {!asks && step.step === 'refused' && (
        <>
          {step.answer && <blockquote>{step.answer}</blockquote>}
          <Button variant="outline-primary" onClick={() => setAgain(true)}>
            {t.signUpAgain}
          </Button>
        </>
      )}
      <Languages value={language} choose={speak} />
    </Sill>
  )
}
