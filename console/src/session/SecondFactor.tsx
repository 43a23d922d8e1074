import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type Session } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { when, Wrong } from '../parts/bits'

/** One-time codes beside the password: how they stand, and setting them up. */
export function SecondFactor({ session }: { session: Session }) {
  const state = useQuery({ queryKey: ['factor'], queryFn: () => call('GET /api/v1/account/second-factor') })
  const [asking, setAsking] = useState<'set' | 'remove'>()
  const f = state.data
  return (
    <section aria-labelledby="h-factor" className="narrow">
      <h2 id="h-factor">One-time codes</h2>
      {state.error && <Wrong error={state.error} retry={() => void state.refetch()} />}
      {session.set_up_factor && <p className="gets-no">▼ Your role has to have them: set them up before anything else.</p>}
      {f && (
        <p>
          {f.on ? (
            <>
              A code of your app is asked for at every sign-in{f.since && <>, since {when(f.since)}</>}.{' '}
              {f.recovery_codes === 1 ? 'One recovery code is' : `${f.recovery_codes} recovery codes are`} left.
            </>
          ) : (
            'Beside your password, a code that an app on your device shows. Whoever learns your password alone does not get in.'
          )}
        </p>
      )}
      {f && !f.on && <Button onClick={() => setAsking('set')}>Set them up</Button>}
      {f?.on && (
        <Button
          variant="outline-danger"
          disabled={f.required}
          title={f.required ? 'Your role has to have them' : undefined}
          onClick={() => setAsking('remove')}
        >
          Take them away
        </Button>
      )}
      {asking === 'set' && <SetUp session={session} close={() => setAsking(undefined)} />}
      {asking === 'remove' && <Remove close={() => setAsking(undefined)} />}
    </section>
  )
}

function SetUp({ session, close }: { session: Session; close: () => void }) {
  const client = useQueryClient()
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const begin = useMutation({ mutationFn: () => call('POST /api/v1/account/second-factor', { body: { password } }) })
  const confirm = useMutation({
    mutationFn: () => call('POST /api/v1/account/second-factor/confirm', { body: { password, code } }),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['factor'] }),
  })
  const told = confirm.data
  const kept = () => {
    close()
    void client.invalidateQueries({ queryKey: ['session'] }) // what had to be set up is
  }
  if (told)
    return (
      <AskDialog
        title="For when your device is lost"
        leave="Close"
        submit="I have kept them"
        disabled={false}
        error={undefined}
        close={kept}
        onSubmit={kept}
      >
        <p>Each of these is good once in place of a code. They are told this once: print them, or keep them where your password is not.</p>
        <ul className="recovery-codes">
          {told.codes.map((c) => (
            <li key={c}>
              <code>{c}</code>
            </li>
          ))}
        </ul>
      </AskDialog>
    )
  if (!begin.data)
    return (
      <AskDialog
        title="Set up one-time codes"
        leave="Cancel"
        submit="Go on"
        disabled={begin.isPending || password === ''}
        error={begin.error}
        close={close}
        onSubmit={() => begin.mutate()}
      >
        <input type="hidden" autoComplete="username" value={session.name} readOnly />
        <Form.Group controlId="sf-password">
          <Form.Label>Your password</Form.Label>
          <Form.Control
            type="password"
            autoComplete="current-password"
            autoFocus
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Form.Group>
      </AskDialog>
    )
  return (
    <AskDialog
      title="Set up one-time codes"
      leave="Cancel"
      submit="Set up"
      disabled={confirm.isPending || code.trim() === ''}
      error={confirm.error}
      close={close}
      onSubmit={() => confirm.mutate()}
    >
      <p>Scan this with an app for one-time codes, or type what stands below it.</p>
      <p className="text-center">
        <img src={begin.data.image} width={200} height={200} alt="What the app scans" />
      </p>
      <p className="text-center">
        <code className="long-code">{begin.data.secret.replace(/(.{4})/g, '$1 ').trim()}</code>
      </p>
      <Form.Group controlId="sf-code">
        <Form.Label>The code that it shows now</Form.Label>
        <Form.Control
          inputMode="numeric"
          autoComplete="one-time-code"
          maxLength={10}
          value={code}
          onChange={(e) => setCode(e.target.value)}
        />
      </Form.Group>
    </AskDialog>
  )
}

function Remove({ close }: { close: () => void }) {
  const client = useQueryClient()
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const go = useMutation({
    mutationFn: () => call('POST /api/v1/account/second-factor/remove', { body: { password, code } }),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['factor'] })
      close()
    },
  })
  return (
    <AskDialog
      title="Take one-time codes away"
      leave="Cancel"
      submit="Take them away"
      danger
      disabled={go.isPending || password === '' || code.trim() === ''}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <Form.Group controlId="sf-password" className="mb-2">
        <Form.Label>Your password</Form.Label>
        <Form.Control type="password" autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="sf-code">
        <Form.Label>A code, or a recovery code</Form.Label>
        <Form.Control autoComplete="one-time-code" maxLength={40} value={code} onChange={(e) => setCode(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
