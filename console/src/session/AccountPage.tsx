import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type Session } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Page, Wrong } from '../parts/bits'
import { HouseSignIn } from './HouseSignIn'
import { Passkeys } from './Passkeys'
import { SecondFactor } from './SecondFactor'
import { Sessions } from './Sessions'

/** One's own account: the password, and every place that one is signed in. */
export function AccountPage({ session, out }: { session: Session; out: () => void }) {
  const [old, setOld] = useState('')
  const [next, setNext] = useState('')
  const [again, setAgain] = useState('')
  const [leaving, setLeaving] = useState(false)
  const save = useMutation({
    mutationFn: () => call('PUT /api/v1/account/password', { body: { old, new: next } }),
    onSuccess: () => {
      setOld('')
      setNext('')
      setAgain('')
    },
  })
  const end = useMutation({ mutationFn: () => call('DELETE /api/v1/sessions'), onSuccess: out })
  const differ = again !== '' && again !== next
  return (
    <Page title="Your account" lead={`${session.name}, ${session.role}${session.person ? `; person ${session.person}` : ''}.`}>
      {!session.house && (
        <section aria-labelledby="h-password" className="narrow">
          <h2 id="h-password">Your password</h2>
          <p className="quiet">Changing it signs you out everywhere else and ends all your tokens.</p>
          {save.error && <Wrong error={save.error} />}
          {save.isSuccess && <p role="status">Your password is changed. You are signed out everywhere else.</p>}
          <Form
            onSubmit={(e) => {
              e.preventDefault()
              if (!differ) save.mutate()
            }}
          >
            <input type="hidden" autoComplete="username" value={session.name} readOnly />
            <Form.Group controlId="pw-old" className="mb-2">
              <Form.Label>Your current password</Form.Label>
              <Form.Control type="password" autoComplete="current-password" required value={old} onChange={(e) => setOld(e.target.value)} />
            </Form.Group>
            <Form.Group controlId="pw-new" className="mb-2">
              <Form.Label>New password</Form.Label>
              <Form.Control
                type="password"
                autoComplete="new-password"
                required
                minLength={12}
                maxLength={200}
                value={next}
                onChange={(e) => setNext(e.target.value)}
                aria-describedby="pw-hint"
              />
              <Form.Text id="pw-hint">
                At least 12 characters. Use a few words that have nothing to do with each other; passwords that attackers try first are
                refused.
              </Form.Text>
            </Form.Group>
            <Form.Group controlId="pw-again" className="mb-3">
              <Form.Label>New password again</Form.Label>
              <Form.Control
                type="password"
                autoComplete="new-password"
                required
                isInvalid={differ}
                value={again}
                onChange={(e) => setAgain(e.target.value)}
              />
              {differ && <Form.Control.Feedback type="invalid">It differs from the one above.</Form.Control.Feedback>}
            </Form.Group>
            <Button type="submit" disabled={save.isPending || differ}>
              Change the password
            </Button>
          </Form>
        </section>
      )}
      {!session.house && <SecondFactor session={session} />}
      <Passkeys />
      <section aria-labelledby="h-everywhere" className="narrow">
        <h2 id="h-everywhere">Everywhere you are signed in</h2>
        <Sessions />
        <p>Did you leave a session open somewhere, or lose a device? End every session and every token of yours, this one too.</p>
        <Button variant="outline-danger" onClick={() => setLeaving(true)}>
          Sign out everywhere
        </Button>
        {leaving && (
          <AskDialog
            title="Sign out everywhere?"
            leave="Stay signed in"
            submit="Sign out everywhere"
            danger
            disabled={end.isPending}
            error={end.error}
            close={() => setLeaving(false)}
            onSubmit={() => end.mutate()}
          >
            <p>Every session and every token of {session.name} ends at once, this one too. What you typed and did not save is lost.</p>
          </AskDialog>
        )}
      </section>
      {(session.role === 'administrator' || session.role === 'auditor') && !session.set_up_factor && (
        <HouseSignIn may={session.role === 'administrator'} />
      )}
    </Page>
  )
}
