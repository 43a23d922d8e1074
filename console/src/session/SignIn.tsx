import { useEffect, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, Failure, remember, type Session } from '../api'
import { Modal } from '../parts/Dialog'
import { Mark, Wrong } from '../parts/bits'

function useSignIn(done: (s: Session) => void) {
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const [asked, setAsked] = useState(false) // the password was right, and a one-time code is asked for
  const send = async (name: string, password: string, code: string) => {
    setBusy(true)
    setError(undefined)
    try {
      const s = await call<Session>('POST', '/api/v1/session', { name, password, ...(code ? { code } : {}) })
      remember(s)
      done(s)
    } catch (err) {
      if (err instanceof Failure && err.problem.type.endsWith('/one-time-code')) setAsked(true)
      else setError(err)
    } finally {
      setBusy(false)
    }
  }
  return { error, busy, asked, send }
}

function Code({ id, code, set }: { id: string; code: string; set: (c: string) => void }) {
  return (
    <Form.Group controlId={id} className="mb-4">
      <Form.Label>One-time code, or a recovery code</Form.Label>
      <Form.Control autoFocus autoComplete="one-time-code" maxLength={40} required value={code} onChange={(e) => set(e.target.value)} />
    </Form.Group>
  )
}

export function SignIn({ done }: { done: (s: Session) => void }) {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const { error, busy, asked, send } = useSignIn(done)
  useEffect(() => {
    document.title = 'Sign in · Wexillum'
  }, [])
  return (
    <main className="door">
      <div className="door-card">
        <div className="door-mark">
          <Mark size={64} />
        </div>
        <h1>Wexillum</h1>
        <p>What each outsider can do in your collaboration suite, what blocks them, and who can change it.</p>
        {error !== undefined && <Wrong error={error} />}
        <Form
          onSubmit={(e: FormEvent) => {
            e.preventDefault()
            void send(name, password, code)
          }}
        >
          <Form.Group controlId="name" className="mb-3">
            <Form.Label>Name</Form.Label>
            <Form.Control autoFocus autoComplete="username" value={name} onChange={(e) => setName(e.target.value)} required />
          </Form.Group>
          <Form.Group controlId="password" className="mb-4">
            <Form.Label>Password</Form.Label>
            <Form.Control type="password" autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} required />
          </Form.Group>
          {asked && <Code id="code" code={code} set={setCode} />}
          <Button type="submit" className="w-100" disabled={busy}>
            {busy ? 'Signing in' : 'Sign in'}
          </Button>
        </Form>
      </div>
    </main>
  )
}

/** Asks for the password over the page when a session ended: what was typed there stays. */
export function SignInAgain({ was, done }: { was: Session; done: (s: Session) => void }) {
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const { error, busy, asked, send } = useSignIn(done)
  return (
    <Modal show lock={busy} backdrop="static" keyboard={false} animation={false} className="again-dialog" backdropClassName="again-backdrop" aria-labelledby="again-title">
      <Form
        onSubmit={(e: FormEvent) => {
          e.preventDefault()
          void send(was.name, password, code)
        }}
      >
        <Modal.Header>
          <Modal.Title id="again-title" as="h2">
            Your session has ended
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <p>Sign in to go on. What you typed on the page is still there.</p>
          {error !== undefined && <Wrong error={error} />}
          <Form.Group controlId="again-password">
            <Form.Label>Password of {was.name}</Form.Label>
            <input type="hidden" autoComplete="username" value={was.name} readOnly />
            <Form.Control type="password" autoComplete="current-password" autoFocus required value={password} onChange={(e) => setPassword(e.target.value)} />
          </Form.Group>
          {asked && <Code id="again-code" code={code} set={setCode} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" href="/" onClick={() => location.assign('/')}>
            Sign in as somebody else
          </Button>
          <Button type="submit">Sign in</Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
