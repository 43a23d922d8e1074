import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type House } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { when, Wrong } from '../parts/bits'
import { useChange } from '../parts/change'

/** How people of ours sign in with the organisation's own sign-in. */
export function HouseSignIn({ may }: { may: boolean }) {
  const [asking, setAsking] = useState<'set' | 'end'>()
  const got = useQuery({ queryKey: ['house'], queryFn: () => call('GET /api/v1/house-sign-in') })
  const x = got.data
  if (got.error) return <Wrong error={got.error} />
  if (!x) return null
  return (
    <section aria-labelledby="h-house" className="narrow">
      <h2 id="h-house">The organisation’s own sign-in</h2>
      {x.on ? (
        <>
          <p>
            People of ours sign in at <b>{x.issuer}</b> (OpenID Connect); {x.known} accounts come from there. Their role is what “{x.claim}”
            says:
          </p>
          <ul className="domains">
            {Object.entries(x.roles ?? {}).map(([value, role]) => (
              <li key={value}>
                <code>{value}</code>
                <span>{role}</span>
              </li>
            ))}
          </ul>
          <p className="quiet">
            {x.trusted
              ? 'The second factor is that sign-in’s own business.'
              : 'Roles that have to have a second factor come in only where that sign-in says that it asked for one.'}{' '}
            Set by {x.by}, {x.made && when(x.made)}.
          </p>
        </>
      ) : (
        <p className="quiet">
          Accounts here have passwords of their own. Let people of ours sign in where they do for everything else, with roles by the groups
          that they are in there.
        </p>
      )}
      {may && (
        <div className="inline-form">
          <Button size="sm" variant="outline-primary" onClick={() => setAsking('set')}>
            {x.on ? 'Change' : 'Set it up'}
          </Button>
          {x.on && (
            <Button size="sm" variant="outline-danger" onClick={() => setAsking('end')}>
              End it
            </Button>
          )}
        </div>
      )}
      {asking === 'set' && <SetHouse x={x} close={() => setAsking(undefined)} />}
      {asking === 'end' && <EndHouse x={x} close={() => setAsking(undefined)} />}
    </section>
  )
}

const written = (roles: Record<string, string>) =>
  Object.entries(roles)
    .map(([v, r]) => `${v} = ${r}`)
    .join('\n')

function SetHouse({ x, close }: { x: House; close: () => void }) {
  const [issuer, setIssuer] = useState(x.issuer ?? '')
  const [client, setClient] = useState(x.client ?? 'wexillum')
  const [key, setKey] = useState(x.key ?? '')
  const [claim, setClaim] = useState(x.claim ?? 'groups')
  const [roles, setRoles] = useState(written(x.roles ?? {}))
  const [trusted, setTrusted] = useState(x.trusted ?? false)
  const [why, setWhy] = useState('')
  const read = Object.fromEntries(
    roles
      .split('\n')
      .map((l) => l.trim())
      .filter(Boolean)
      .map((l) => [l.slice(0, l.lastIndexOf('=')).trim(), l.slice(l.lastIndexOf('=') + 1).trim()]),
  )
  const go = useChange(
    () =>
      call('PUT /api/v1/house-sign-in', {
        body: {
          issuer: issuer.trim(),
          client: client.trim(),
          ...(key.trim() ? { key: key.trim() } : {}),
          claim: claim.trim(),
          roles: read,
          trusted,
          why: why.trim(),
        },
      }),
    close,
  )
  const test = useMutation({ mutationFn: () => call('POST /api/v1/house-sign-in/test', { body: { issuer: issuer.trim() } }) })
  return (
    <AskDialog
      title="The organisation’s own sign-in"
      leave="Cancel"
      submit="Save"
      disabled={go.isPending || !issuer.trim() || !client.trim() || !roles.trim() || !why.trim()}
      error={go.error ?? test.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>
        Enter this there as where it leads back to (redirect URI): <code>{x.back}</code>
      </p>
      <Form.Group controlId="hs-issuer" className="mb-2">
        <Form.Label>Its address (issuer)</Form.Label>
        <div className="inline-form">
          <Form.Control size="sm" value={issuer} placeholder="https://id.house.example" onChange={(e) => setIssuer(e.target.value)} />
          <Button size="sm" variant="outline-primary" disabled={test.isPending || !issuer.trim()} onClick={() => test.mutate()}>
            Test
          </Button>
        </div>
        {test.data && (
          <p role="status" className={test.data.well ? '' : 'gets-no'}>
            {test.data.well ? `▲ It answers, and leads people to ${test.data.authorize}.` : `▼ ${test.data.problem}`}
          </p>
        )}
      </Form.Group>
      <Form.Group controlId="hs-client" className="mb-2">
        <Form.Label>As whom we are known there (client)</Form.Label>
        <Form.Control size="sm" value={client} onChange={(e) => setClient(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="hs-key" className="mb-2">
        <Form.Label>Where our secret there is (none for a public client)</Form.Label>
        <Form.Control size="sm" value={key} placeholder="file:/etc/wexillum/sign-in.secret" onChange={(e) => setKey(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="hs-claim" className="mb-2">
        <Form.Label>What of a token names roles</Form.Label>
        <Form.Control size="sm" value={claim} onChange={(e) => setClaim(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="hs-roles" className="mb-2">
        <Form.Label>Which role for which value, a line each</Form.Label>
        <Form.Control
          as="textarea"
          rows={4}
          value={roles}
          placeholder={'access-administrators = administrator\nstaff = member'}
          onChange={(e) => setRoles(e.target.value)}
        />
        <Form.Text>
          administrator, keeper, auditor or member. Whoever has several values has the mightiest role; whoever has none does not come in.
        </Form.Text>
      </Form.Group>
      <Form.Check
        id="hs-trusted"
        className="mb-2"
        label="It asks everybody for a second factor, and that is its own business"
        checked={trusted}
        onChange={(e) => setTrusted(e.target.checked)}
      />
      <Form.Group controlId="hs-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

function EndHouse({ x, close }: { x: House; close: () => void }) {
  const [why, setWhy] = useState('')
  const go = useChange(() => call('DELETE /api/v1/house-sign-in', { query: { why: why.trim() } }), close)
  return (
    <AskDialog
      title="End the organisation’s own sign-in"
      leave="Cancel"
      submit="End it"
      danger
      disabled={go.isPending || !why.trim()}
      error={go.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>
        The {x.known} accounts that came from there sign in no longer, and are signed out now. Accounts with passwords stay as they are.
      </p>
      <Form.Group controlId="hs-end-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
