import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, Failure, remember, type Session } from '../api'
import { Modal } from '../parts/Dialog'
import { Mark, Wrong } from '../parts/bits'
import { canPasskey, provePasskey, whyNot } from './passkey'

/** Signs somebody in, or has whoever is signed in prove once more that it is they. */
function useSignIn(done: (s: Session) => void, again?: Session) {
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const [asked, setAsked] = useState(false) // the password was right, and a one-time code is asked for
  const send = async (name: string, password: string, code: string) => {
    setBusy(true)
    setError(undefined)
    try {
      const given = { password, ...(code ? { code } : {}) }
      const s = await (again?.house
        ? call('GET /api/v1/session')
        : again
          ? call('POST /api/v1/session/again', { body: given })
          : call('POST /api/v1/session', { body: { name, ...given } }))
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

/** The other ways in: a passkey, and the organisation's own sign-in. */
function Ways({ done, house, again, tell }: { done: (s: Session) => void; house: boolean; again?: boolean; tell: (e: unknown) => void }) {
  const door = useQuery({ queryKey: ['door', 'house'], queryFn: () => call('GET /api/v1/door/house'), enabled: house, staleTime: Infinity })
  const go = async () => {
    try {
      const x = await call('POST /api/v1/door/house', { body: again ? { again } : {} })
      if (again) window.open(x.go, 'wexillum-proof', 'width=560,height=700')
      else window.location.assign(x.go)
    } catch (e) {
      tell(e)
    }
  }
  return (
    <div className="ways-in">
      {canPasskey() && (
        <Button
          variant="outline-primary"
          className="w-100"
          onClick={() =>
            void provePasskey()
              .then(done)
              .catch((e) => tell(whyNot(e)))
          }
        >
          {again ? 'Use your passkey' : 'Sign in with a passkey'}
        </Button>
      )}
      {door.data?.on && (
        <Button variant="outline-primary" className="w-100" onClick={() => void go()}>
          Sign in with {door.data.name ?? 'your organisation'}
        </Button>
      )}
    </div>
  )
}

/** Why the organisation's own sign-in led to nothing. */
const failures: Record<string, string> = {
  again: 'That took too long, or was begun elsewhere. Begin once more.',
  refused: 'The organisation’s sign-in did not confirm who you are.',
  away: 'The organisation’s sign-in does not answer now. Sign in with a password, or try again in a moment.',
  role: 'You are confirmed, and no role here is for you. An administrator says whose groups have one.',
  factor:
    'Your role has to have a second factor, and the organisation’s sign-in did not ask you for one. An administrator of it requires it.',
  denied: 'Your account here is disabled. Ask an administrator.',
}

/** Asks once more for a proof of who one is, before something that weighs heavily. */
export function ProveAgain({ was, done, leave }: { was: Session; done: (s: Session) => void; leave: () => void }) {
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const [other, setOther] = useState<unknown>()
  // What is done is done by whoever began it.
  const proved = (s: Session) =>
    s.name === was.name
      ? done(s)
      : setOther(new Error(`You proved that you are ${s.name}; it was ${was.name} who began this. Nothing was done.`))
  const { error, busy, asked, send } = useSignIn(proved, was)
  return (
    <Modal
      show
      lock={busy}
      backdrop="static"
      onHide={leave}
      animation={false}
      className="again-dialog"
      backdropClassName="again-backdrop"
      aria-labelledby="prove-title"
    >
      <Form
        onSubmit={(e: FormEvent) => {
          e.preventDefault()
          void send(was.name, password, code)
        }}
      >
        <Modal.Header>
          <Modal.Title id="prove-title" as="h2">
            Is it you?
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <p>What you are about to do weighs heavily, and you signed in a while ago. It is done once you have proved that it is you.</p>
          {(error ?? other) !== undefined && <Wrong error={error ?? other} />}
          {was.house ? (
            <p>Sign in again in the window that opens, then go on here.</p>
          ) : (
            <Form.Group controlId="prove-password" className="mb-2">
              <Form.Label>Password of {was.name}</Form.Label>
              <input type="hidden" autoComplete="username" value={was.name} readOnly />
              <Form.Control
                type="password"
                autoComplete="current-password"
                autoFocus
                required
                value={password}
                onChange={(e) => setPassword(e.target.value)}
              />
            </Form.Group>
          )}
          {asked && <Code id="prove-code" code={code} set={setCode} />}
          <Ways done={proved} house={!!was.house} again tell={setOther} />
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={leave}>
            Do not do it
          </Button>
          <Button type="submit" disabled={busy}>
            Go on
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

export function SignIn({ done }: { done: (s: Session) => void }) {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const { error, busy, asked, send } = useSignIn(done)
  const [other, setOther] = useState<unknown>()
  const failed = new URLSearchParams(location.search).get('failed')
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
        {(error ?? other) !== undefined && <Wrong error={error ?? other} />}
        {failed && (error ?? other) === undefined && <Wrong error={failures[failed] ?? failures.again} />}
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
            <Form.Control
              type="password"
              autoComplete="current-password"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              required
            />
          </Form.Group>
          {asked && <Code id="code" code={code} set={setCode} />}
          <Button type="submit" className="w-100" disabled={busy}>
            {busy ? 'Signing in' : 'Sign in'}
          </Button>
        </Form>
        <Ways done={done} house tell={setOther} />
      </div>
    </main>
  )
}

/** Asks for the password over the page when a session ended: what was typed there stays. */
export function SignInAgain({ was, done }: { was: Session; done: (s: Session) => void }) {
  const [other, setOther] = useState<unknown>()
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const { error, busy, asked, send } = useSignIn(done)
  return (
    <Modal
      show
      lock={busy}
      backdrop="static"
      keyboard={false}
      animation={false}
      className="again-dialog"
      backdropClassName="again-backdrop"
      aria-labelledby="again-title"
    >
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
            <Form.Control
              type="password"
              autoComplete="current-password"
              autoFocus
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </Form.Group>
          {asked && <Code id="again-code" code={code} set={setCode} />}
          <Ways done={done} house={!!was.house} again tell={setOther} />
          {other !== undefined && <Wrong error={other} />}
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
