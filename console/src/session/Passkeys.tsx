import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call } from '../api'
import { when, Wrong } from '../parts/bits'
import { useChange } from '../parts/change'
import { addPasskey, canPasskey, whyNot } from './passkey'

/** One's own passkeys: each signs in without a password, and stands for both factors. */
export function Passkeys() {
  const [name, setName] = useState('')
  const [wrong, setWrong] = useState('')
  const list = useQuery({ queryKey: ['passkeys'], queryFn: () => call('GET /api/v1/account/passkeys') })
  const end = useChange((id: string) => call('DELETE /api/v1/account/passkeys/{id}', { path: { id } }))
  const add = useChange(
    () => addPasskey(name.trim()),
    () => {
      setName('')
      setWrong('')
    },
  )
  const all = list.data?.passkeys ?? []
  return (
    <section aria-labelledby="h-passkeys" className="narrow">
      <h2 id="h-passkeys">Passkeys</h2>
      <p className="quiet">
        A passkey signs you in with your device’s own lock, in place of the password and a one-time code. Add one on each of two devices, so
        that losing one keeps nobody out.
      </p>
      {(list.error ?? end.error) && <Wrong error={list.error ?? end.error} />}
      {all.length > 0 && (
        <ul className="domains">
          {all.map((p) => (
            <li key={p.id}>
              <span>
                <b>{p.name}</b>
                <span className="sub">
                  since {when(p.made)}
                  {p.used ? `; used last ${when(p.used)}` : '; not used yet'}
                </span>
              </span>
              <Button
                size="sm"
                variant="link"
                disabled={end.isPending}
                onClick={() => end.mutate(p.id)}
                aria-label={`Take it away: the passkey ${p.name}`}
              >
                Take it away
              </Button>
            </li>
          ))}
        </ul>
      )}
      {canPasskey() ? (
        <Form
          className="inline-form"
          onSubmit={(e) => {
            e.preventDefault()
            add.mutate(undefined, { onError: (err) => setWrong(whyNot(err)) })
          }}
        >
          <Form.Control
            size="sm"
            required
            maxLength={60}
            placeholder="what you call it, as telephone"
            aria-label="Name of the new passkey"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Button size="sm" type="submit" disabled={add.isPending}>
            Add a passkey
          </Button>
        </Form>
      ) : (
        <p className="quiet">
          Passkeys belong to a name: open this page by the service’s name (on this machine, http://localhost:{location.port}), in a browser
          that knows them.
        </p>
      )}
      {wrong && <Wrong error={wrong} />}
    </section>
  )
}
