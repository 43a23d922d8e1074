import { useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, remember, type Session } from '../api'
import { Mark, Wrong } from '../parts/bits'

export function SignIn({ done }: { done: (s: Session) => void }) {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const submit = async (e: FormEvent) => {
    e.preventDefault()
    setBusy(true)
    setError(undefined)
    try {
      const s = await call<Session>('POST', '/api/v1/session', { name, password })
      remember(s)
      done(s)
    } catch (err) {
      setError(err)
    } finally {
      setBusy(false)
    }
  }
  return (
    <main className="door">
      <div className="door-card">
        <div className="door-mark">
          <Mark size={64} />
        </div>
        <h1>Wexillum</h1>
        <p>Who from outside may do what, which gate stands in the way, and whose it is.</p>
        {error !== undefined && <Wrong error={error} />}
        <Form onSubmit={submit}>
          <Form.Group controlId="name" className="mb-3">
            <Form.Label>Name</Form.Label>
            <Form.Control autoFocus autoComplete="username" value={name} onChange={(e) => setName(e.target.value)} required />
          </Form.Group>
          <Form.Group controlId="password" className="mb-4">
            <Form.Label>Password</Form.Label>
            <Form.Control type="password" autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} required />
          </Form.Group>
          <Button type="submit" className="w-100" disabled={busy}>
            {busy ? 'Signing in' : 'Sign in'}
          </Button>
        </Form>
      </div>
    </main>
  )
}
