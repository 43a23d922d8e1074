import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { Link } from 'react-router'
import { call, type GuestChange, type GuestChanged, type GuestView } from '../api'
import { Combo } from '../parts/Combo'
import { until as untilText, Waiting, Wrong } from '../parts/bits'
import { doWords } from './words'
import { useRefresh } from '../parts/change'

type Do = GuestChange['do']
const leads: Partial<Record<Do, string>> = {
  extend: 'A later end, and the term begins anew. One extension adds what the rules allow.',
  suspend: 'Everything stops on this record; what they had stays until it is removed, and it can be brought back.',
  bring_back: 'A record wakes only where no cause stands.',
  end: 'The record ends now: it is suspended, and removed after the days of grace.',
  remove: 'Grants and named links end, groups are left, the record goes. This cannot be undone.',
  confirm: 'You say that what they hold is still needed.',
  hand_over: 'Somebody else is their sponsor from now on.',
  end_grant: 'The role ends now.',
  describe: 'What is kept of the person. Mail and their own page follow the language.',
  remind: 'The mail of the invitation is sent once more; the days to accept go on.',
  invite_again: 'The invitation is sent anew, and the days to accept begin anew.',
}

/** One change of records, weighed before it is made. */
export function Act({
  what,
  addresses,
  resource,
  role,
  guest,
  keeper,
  close,
}: {
  what: Do
  addresses: string[]
  resource?: string
  role?: string
  guest?: GuestView
  keeper?: boolean
  close: () => void
}) {
  const refresh = useRefresh()
  const [reason, setReason] = useState('')
  const [until, setUntil] = useState('')
  const [grants, setGrants] = useState(true)
  const [sponsor, setSponsor] = useState('')
  const was = {
    name: guest?.short.name ?? '',
    purpose: guest?.short.purpose ?? '',
    language: guest?.language ?? '',
    location: guest?.location ?? '',
    licence: guest?.licence ?? 'none',
  }
  const [facts, setFacts] = useState(was)
  const changed = what === 'describe' ? Object.fromEntries(Object.entries(facts).filter(([k, v]) => v !== was[k as keyof typeof was])) : {}
  const body: GuestChange = {
    do: what,
    ...changed,
    addresses,
    resource,
    role,
    ...(reason ? { reason } : {}),
    ...(what === 'extend' ? { grants, ...(until ? { until } : {}) } : {}),
    ...(what === 'hand_over' && sponsor ? { sponsor } : {}),
  }
  const ready = what === 'hand_over' ? sponsor !== '' : what !== 'describe' || Object.keys(changed).length > 0
  const ahead = useQuery({
    queryKey: ['act', what, addresses, until, grants, sponsor, resource, role, changed],
    queryFn: () => call('POST /api/v1/guests/changes', { query: { preview: true }, body }),
    enabled: ready,
    retry: false,
    placeholderData: (old) => old,
  })
  const go = useMutation({
    mutationFn: () => call('POST /api/v1/guests/changes', { body }),
    onSuccess: () => {
      void refresh()
      close()
    },
  })
  const list = ahead.data?.guests ?? []
  const can = list.filter((g) => g.done).length
  const gains = list.some((g) => g.done && g.gained)
  const back = what === 'remove' && guest?.short.state === 'invited' // nothing was accepted yet
  const title = back ? 'Take it back' : doWords[what]
  const needsReason = what !== 'confirm' && what !== 'invite_again' && what !== 'remind' && what !== 'describe'
  return (
    <AskDialog
      wide
      title={
        <>
          {title}: {addresses.length === 1 ? addresses[0] : `${addresses.length} guests`}
        </>
      }
      leave="Leave it"
      submit={addresses.length > 1 ? `${title} ${can} of ${addresses.length}` : title}
      disabled={go.isPending || !ready || can === 0}
      danger={what === 'remove'}
      error={null}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p className="quiet">{back ? 'What was meant for them goes, and the link that was sent is of no use any more.' : leads[what]}</p>
      {what === 'suspend' && keeper && (
        <p className="quiet">
          Their home account, where they have one, is not concerned. To stop somebody on every account,{' '}
          {addresses.length === 1 ? (
            <Link to={`/partners?bar=${encodeURIComponent(addresses[0])}`}>bar the address</Link>
          ) : (
            'bar the addresses'
          )}
          : then nothing gets in, whatever any rule says, until the bar is lifted.
        </p>
      )}
      {what === 'describe' && (
        <>
          {(['name', 'purpose', 'location'] as const).map((k) => (
            <Form.Group key={k} controlId={`act-${k}`} className="mb-2">
              <Form.Label>{{ name: 'Name', purpose: 'Purpose', location: 'Location' }[k]}</Form.Label>
              <Form.Control
                size="sm"
                maxLength={k === 'location' ? 100 : 500}
                value={facts[k]}
                onChange={(e) => setFacts({ ...facts, [k]: e.target.value })}
              />
            </Form.Group>
          ))}
          <div className="form-row">
            <Form.Group controlId="act-language">
              <Form.Label>Language</Form.Label>
              <Form.Select size="sm" value={facts.language} onChange={(e) => setFacts({ ...facts, language: e.target.value })}>
                {facts.language === '' && <option value="">not said: English</option>}
                <option value="en">English</option>
                <option value="pt">Português</option>
              </Form.Select>
            </Form.Group>
            {keeper && (
              <Form.Group controlId="act-licence">
                <Form.Label>Licence for reports</Form.Label>
                <Form.Select size="sm" value={facts.licence} onChange={(e) => setFacts({ ...facts, licence: e.target.value })}>
                  <option>none</option>
                  <option>ours</option>
                  <option>theirs</option>
                </Form.Select>
              </Form.Group>
            )}
          </div>
        </>
      )}
      {what === 'extend' && (
        <div className="form-row">
          <Form.Group controlId="act-until">
            <Form.Label>New end</Form.Label>
            <Form.Control size="sm" type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
            <Form.Text>Empty: as far as one extension may go.</Form.Text>
          </Form.Group>
          <Form.Check
            id="act-grants"
            label="Extend the grants that would end before"
            checked={grants}
            onChange={(e) => setGrants(e.target.checked)}
          />
        </div>
      )}
      {what === 'hand_over' && (
        <div className="plain-combo mb-2">
          <Combo label="To whom" kind="person" value={sponsor} onChange={setSponsor} />
        </div>
      )}
      {needsReason && (
        <Form.Group controlId="act-reason" className="mb-3">
          <Form.Label>Why</Form.Label>
          <Form.Control size="sm" required value={reason} onChange={(e) => setReason(e.target.value)} />
        </Form.Group>
      )}
      {go.error && <Wrong error={go.error} />}
      {ahead.error && <Wrong error={ahead.error} />}
      {ready && ahead.isLoading && <Waiting what="Weighing" />}
      {ready && (what !== 'describe' || list.some((g) => g.lost || g.gained)) && list.length > 0 && (
        <div className="wide act-list" role="region" aria-label="What would become of each" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Guest</th>
                <th scope="col">As it is</th>
                <th scope="col">Then</th>
                <th scope="col" className="num">
                  Loses at once
                </th>
                {gains && (
                  <th scope="col" className="num">
                    Gains at once
                  </th>
                )}
              </tr>
            </thead>
            <tbody>
              {list.map((g) => (
                <tr key={g.address}>
                  <th scope="row">
                    {g.name || g.address}
                    {g.name && <span className="sub">{g.address}</span>}
                  </th>
                  <td>{outOf(g.was)}</td>
                  <td>{g.done ? what === 'remove' ? '✕ removed' : outOf(g.will) : <span className="gets-no">▼ {g.reason}</span>}</td>
                  <td className="num">{g.done && g.lost ? g.lost : '–'}</td>
                  {gains && <td className="num">{g.done && g.gained ? g.gained : '–'}</td>}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </AskDialog>
  )
}

function outOf(steps: GuestChanged['was']) {
  const s = steps?.find((x) => x.kind === 'suspended' || x.kind === 'removed' || x.kind === 'invitation_lapses')
  if (!s) return 'nothing ends'
  return (
    <>
      {s.kind === 'suspended' ? 'suspended' : s.kind === 'removed' ? 'removed' : 'lapses'} {untilText(s.at)}
      <span className="sub">{s.because}</span>
    </>
  )
}
