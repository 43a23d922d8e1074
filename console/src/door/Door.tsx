import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useLocation, useSearchParams } from 'react-router'
import { call, Failure, remember, type DoorInvitation, type DoorStep, type Session } from '../api'
import { canPasskey, provePasskey } from '../session/passkey'
import { languageOf, words, type Language } from './words'
import { Sill, Languages } from './Sill'
import { Before } from './Before'

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
  const whose = useQuery({ queryKey: ['door'], queryFn: () => call('GET /api/v1/door'), staleTime: Infinity })
  const organisation = invited?.organisation ?? whose.data?.organisation
  const t = words[language]
  useEffect(() => {
    if (!key) return
    window.history.replaceState(null, '', '/door/invited') // the secret stays out of the history
    call('POST /api/v1/door/open', { body: { key } })
      .then((x) => {
        setInvited(x)
        setLanguage(languageOf(x.language))
      })
      .catch((e) => setError(e instanceof Failure && e.problem.status === 404 ? 'spent' : 'other'))
  }, [key])
  const met = params.get('step') // who comes back from their own organisation's sign-in
  useEffect(() => {
    if (!met) return
    call('POST /api/v1/door/sign-up', { body: { language } })
      .then((x) => 'step' in x && setStep(x))
      .catch(() => setError(t.failed.again))
  }, [met]) // eslint-disable-line react-hooks/exhaustive-deps
  const who = { ...(invited ? { key } : { address: address.trim() }), ...(join ? { join } : {}) }
  const tell = (e: unknown) =>
    setError(
      !(e instanceof Failure)
        ? 'other'
        : e.problem.status === 429
          ? 'often'
          : e.problem.status === 401
            ? 'code'
            : (e.problem.detail ?? e.problem.title),
    )
  const ask = async () => {
    setBusy(true)
    setError('')
    try {
      await call('POST /api/v1/door/code', { body: { ...who, language } })
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
      const s = await call('POST /api/v1/door/prove', { body: { ...who, code, language } })
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
      const x = await call('POST /api/v1/door/partner', { body: { ...who, language } })
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
            <Form.Control
              type="email"
              required
              autoComplete="email"
              value={address}
              disabled={sent}
              onChange={(e) => setAddress(e.target.value)}
            />
          </Form.Group>
        )}
        {sent && (
          <>
            <p role="status">{t.codeSent(invited && byLink ? invited.masked : address)}</p>
            <Form.Group controlId="door-code" className="mb-3">
              <Form.Label>{t.code}</Form.Label>
              <Form.Control
                className="sill-code"
                required
                autoFocus
                autoComplete="one-time-code"
                autoCapitalize="characters"
                spellCheck={false}
                maxLength={12}
                value={code}
                onChange={(e) => setCode(e.target.value)}
              />
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
