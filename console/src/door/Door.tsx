import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, type FormEvent, type ReactNode } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useLocation, useSearchParams } from 'react-router'
import { call, Failure, remember, type DoorInvitation, type DoorStep, type Session } from '../api'
import { Mark } from '../parts/bits'
import { canPasskey, provePasskey } from '../session/passkey'
import { Bundles } from './Bundles'
import { languageOf, words, type Language } from './words'

/** The frame of every page that a guest sees: calm, short, on a phone. */
export function Sill({ title, lead, language, organisation, children }: { title: string; lead?: ReactNode; language: Language; organisation?: string; children?: ReactNode }) {
  useEffect(() => {
    document.title = `${title} · ${organisation || 'Wexillum'}`
    document.documentElement.lang = language
  }, [title, language, organisation])
  return (
    <main className="sill" id="main">
      <header>
        <Mark size={30} />
        <span>{organisation}</span>
      </header>
      <article>
        <h1>{title}</h1>
        {lead && <p className="sill-lead">{lead}</p>}
        {children}
      </article>
    </main>
  )
}

/** Where guests come in: with the link of an invitation, or later with their address. */
export function Door({ done }: { done: (s: Session) => void }) {
  const { pathname, hash } = useLocation()
  const [params] = useSearchParams()
  const [key] = useState(pathname === '/door/invited' ? hash.slice(1) : '')
  const [invited, setInvited] = useState<DoorInvitation>()
  const [language, setLanguage] = useState<Language>(languageOf(navigator.language))
  const [error, setError] = useState('')
  const [address, setAddress] = useState('')
  const [sent, setSent] = useState(false)
  const [code, setCode] = useState('')
  const [busy, setBusy] = useState(false)
  const [step, setStep] = useState<DoorStep>()
  const join = params.get('join') ?? ''
  const whose = useQuery({ queryKey: ['door'], queryFn: () => call<{ organisation: string }>('GET', '/api/v1/door'), staleTime: Infinity })
  const organisation = invited?.organisation ?? whose.data?.organisation
  const t = words[language]
  useEffect(() => {
    if (!key) return
    window.history.replaceState(null, '', '/door/invited') // the secret stays out of the history
    call<DoorInvitation>('POST', '/api/v1/door/open', { key })
      .then((x) => {
        setInvited(x)
        setLanguage(languageOf(x.language))
      })
      .catch((e) => setError(e instanceof Failure && e.problem.status === 404 ? 'spent' : 'other'))
  }, [key])
  const met = params.get('step') // who comes back from their own organisation's sign-in
  useEffect(() => {
    if (!met) return
    call<DoorStep>('POST', '/api/v1/door/sign-up', { language })
      .then(setStep)
      .catch(() => setError(t.failed.again))
  }, [met]) // eslint-disable-line react-hooks/exhaustive-deps
  const who = { ...(invited ? { key } : { address: address.trim() }), ...(join ? { join } : {}) }
  const tell = (e: unknown) => setError(!(e instanceof Failure) ? 'other' : e.problem.status === 429 ? 'often' : e.problem.status === 401 ? 'code' : (e.problem.detail ?? e.problem.title))
  const ask = async () => {
    setBusy(true)
    setError('')
    try {
      await call('POST', '/api/v1/door/code', { ...who, language })
      setSent(true)
    } catch (e) {
      tell(e)
    } finally {
      setBusy(false)
    }
  }
  const prove = async (e: FormEvent) => {
    e.preventDefault()
    if (!sent) return ask()
    setBusy(true)
    setError('')
    try {
      const s = await call<Session | DoorStep>('POST', '/api/v1/door/prove', { ...who, code, language })
      if ('step' in s) setStep(s)
      else {
        remember(s)
        done(s)
      }
    } catch (err) {
      tell(err)
    } finally {
      setBusy(false)
    }
  }
  const partner = async () => {
    setBusy(true)
    setError('')
    try {
      const x = await call<{ go: string }>('POST', '/api/v1/door/partner', { ...who, language })
      window.location.assign(x.go)
    } catch (e) {
      tell(e)
      setBusy(false)
    }
  }
  const said = error === 'often' ? t.tooOften : error === 'code' ? t.noCode : error === 'spent' ? t.spent : error
  const failed = params.get('failed')
  const byLink = key !== '' && error !== 'spent'
  if (step) return <Before step={step} met={setStep} language={language} choose={setLanguage} organisation={organisation} done={done} />
  return (
    <Sill
      language={language}
      organisation={organisation}
      title={byLink && invited ? t.invited(invited.by, invited.organisation) : join ? t.joinTitle : t.title}
      lead={byLink && invited ? t.invitedLead(invited.organisation, invited.masked) : join ? t.joinLead : t.lead}
    >
      {failed && !said && (
        <p className="sill-wrong" role="alert">
          {t.failed[failed] ?? t.failed.again}
        </p>
      )}
      {said && (
        <p className="sill-wrong" role="alert">
          {said}
        </p>
      )}
      <Form onSubmit={(e) => void prove(e)}>
        {!byLink && (
          <Form.Group controlId="door-address" className="mb-3">
            <Form.Label>{t.address}</Form.Label>
            <Form.Control type="email" required autoComplete="email" value={address} disabled={sent} onChange={(e) => setAddress(e.target.value)} />
          </Form.Group>
        )}
        {sent && (
          <>
            <p role="status">{t.codeSent(invited && byLink ? invited.masked : address)}</p>
            <Form.Group controlId="door-code" className="mb-3">
              <Form.Label>{t.code}</Form.Label>
              <Form.Control className="sill-code" required autoFocus autoComplete="one-time-code" autoCapitalize="characters" spellCheck={false} maxLength={12} value={code} onChange={(e) => setCode(e.target.value)} />
            </Form.Group>
          </>
        )}
        {(!byLink || invited) && (
          <Button type="submit" className="w-100" disabled={busy}>
            {sent ? t.enter : t.sendCode}
          </Button>
        )}
        {sent && (
          <Button variant="link" className="sill-aside" disabled={busy} onClick={() => void ask()}>
            {t.again}
          </Button>
        )}
        {!byLink && !sent && (
          <Button variant="link" className="sill-aside" disabled={busy || !address.includes('@')} onClick={() => void partner()}>
            {t.partner}
          </Button>
        )}
        {!byLink && !sent && !join && canPasskey() && (
          <Button
            variant="link"
            className="sill-aside"
            disabled={busy}
            onClick={() =>
              void provePasskey(language)
                .then(done)
                .catch(() => setError(t.passkeyNot))
            }
          >
            {t.passkey}
          </Button>
        )}
      </Form>
      <Languages value={language} choose={setLanguage} />
    </Sill>
  )
}

/** What comes between proving an address and a page of one's own: questions, waiting, a no; or a course joined. */
function Before({ step, met, language, choose, organisation, done }: { step: DoorStep; met: (s: DoorStep) => void; language: Language; choose: (l: Language) => void; organisation?: string; done: (s: Session) => void }) {
  const t = words[language]
  const [said, setSaid] = useState<string[]>([])
  const [again, setAgain] = useState(false)
  const [error, setError] = useState('')
  const [busy, setBusy] = useState(false)
  const speak = (l: Language) => {
    choose(l)
    if (step.step !== 'joined' && step.step !== 'bundles')
      call<DoorStep>('POST', '/api/v1/door/sign-up', { language: l })
        .then(met)
        .catch(() => setError(words[l].provedOver))
  }
  const send = async (e: FormEvent) => {
    e.preventDefault()
    setBusy(true)
    setError('')
    try {
      const s = await call<Session | DoorStep>('POST', '/api/v1/door/sign-up', { answers: (step.questions ?? []).map((_, i) => said[i] ?? ''), language })
      if ('step' in s) {
        setAgain(false)
        met(s)
      } else {
        remember(s)
        done(s)
      }
    } catch (err) {
      setError(!(err instanceof Failure) ? t.failed.again : err.problem.status === 429 ? t.tooOften : err.problem.status === 401 ? t.provedOver : (err.problem.detail ?? err.problem.title))
    } finally {
      setBusy(false)
    }
  }
  const asks = step.step === 'questions' || again
  const [title, lead] = step.step === 'bundles' ? [t.bundlesTitle, t.bundlesLead(step.address)] : asks ? [t.signUpTitle, t.signUpLead(step.address)] : step.step === 'waiting' ? [t.waitTitle, t.waitLead(step.address)] : step.step === 'refused' ? [t.noTitle, t.noLead] : [t.joinedTitle(step.space ?? ''), t.joinedLead(step.space ?? '', step.address)]
  return (
    <Sill language={language} organisation={organisation} title={title} lead={lead}>
      {error && (
        <p className="sill-wrong" role="alert">
          {error}
        </p>
      )}
      {step.step === 'bundles' && <Bundles path="/api/v1/door/bundles" language={language} />}
      {asks && (
        <Form onSubmit={(e) => void send(e)}>
          {(step.questions ?? []).map((q, i) => (
            <Form.Group key={q} controlId={`door-q${i}`} className="mb-3">
              <Form.Label>{q}</Form.Label>
              <Form.Control required maxLength={500} value={said[i] ?? ''} onChange={(e) => setSaid(Object.assign([...said], { [i]: e.target.value }))} />
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

export function Languages({ value, choose }: { value: Language; choose: (l: Language) => void }) {
  return (
    <p className="sill-languages" role="group" aria-label={words[value].language}>
      {(['en', 'pt'] as const).map((l) => (
        <button key={l} type="button" lang={l} aria-pressed={l === value} onClick={() => choose(l)}>
          {l === 'en' ? 'English' : 'Português'}
        </button>
      ))}
    </p>
  )
}
