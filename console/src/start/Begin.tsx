import { useEffect, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, remember, type Session } from '../api'
import { Mark, Wrong } from '../parts/bits'

/** Makes the first administrator of an installation, for whoever has the address that was printed. */
export function Begin({ done }: { done: (s: Session) => void }) {
  const [key] = useState(() => location.hash.slice(1))
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [seen, setSeen] = useState(false)
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  useEffect(() => {
    document.title = 'The first administrator · Wexillum'
    history.replaceState(null, '', '/begin') // the key is not left in the address
  }, [])
  const make = async () => {
    setBusy(true)
    setError(undefined)
    try {
      await call('POST /api/v1/begin', { body: { key, name: name.trim(), password } })
      const s = await call('POST /api/v1/session', { body: { name: name.trim(), password } })
      remember(s)
      done(s)
    } catch (e) {
      setError(e)
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
        <h1>Welcome</h1>
        <p>Make the first administrator of this installation. You can add others later.</p>
        {error !== undefined && <Wrong error={error} />}
        <Form
          onSubmit={(e) => {
            e.preventDefault()
            void make()
          }}
        >
          <Form.Group controlId="name" className="mb-3">
            <Form.Label>Your name for signing in</Form.Label>
            <Form.Control autoFocus autoComplete="username" required value={name} onChange={(e) => setName(e.target.value)} />
            <Form.Text>Lower-case letters, digits, dots and hyphens.</Form.Text>
          </Form.Group>
          <Form.Group controlId="password" className="mb-2">
            <Form.Label>Password</Form.Label>
            <Form.Control
              type={seen ? 'text' : 'password'}
              autoComplete="new-password"
              minLength={12}
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
            <Form.Text>At least 12 characters; a few words that have nothing to do with each other are good.</Form.Text>
          </Form.Group>
          <Form.Check id="seen" className="mb-4" label="Show the password" checked={seen} onChange={(e) => setSeen(e.target.checked)} />
          <Button type="submit" className="w-100" disabled={busy}>
            {busy ? 'Making it' : 'Make the administrator'}
          </Button>
        </Form>
      </div>
    </main>
  )
}
