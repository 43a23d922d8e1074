import { Form } from 'react-bootstrap'
import { Wrong } from '../parts/bits'
import { Line } from './Line'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { call, type Given, type GuestView } from '../api'

/** How the dates move if something were done. */
export function WhatIf({ guest }: { guest: GuestView }) {
  const [what, setWhat] = useState<Given<'POST /api/v1/due/supposing'>['body']['do'] | ''>('')
  const [day, setDay] = useState('')
  const [resource, setResource] = useState('')
  const on = what === 'end_grant' || what === 'confirm' ? resource || guest.grants.find((r) => r.live && !r.group)?.resource : undefined
  const x = useQuery({
    queryKey: ['what-if', guest.short.address, what, day, on],
    queryFn: () =>
      call('POST /api/v1/due/supposing', {
        body: {
          address: guest.short.address,
          do: what || 'end',
          ...(what === 'extend' ? { grants: true, ...(day ? { until: day } : {}) } : {}),
          ...(on ? { resource: on } : {}),
        },
      }),
    enabled: what !== '',
    retry: false,
  })
  return (
    <div className="what-if">
      <div className="filters">
        <Form.Select size="sm" aria-label="What if" value={what} onChange={(e) => setWhat(e.target.value as typeof what)}>
          <option value="">What if…</option>
          <option value="extend">their record were extended</option>
          <option value="end_grant">one of their roles ended now</option>
          <option value="confirm">their roles were confirmed</option>
          <option value="suspend">they were suspended</option>
          <option value="end">they were let go</option>
          {guest.short.partner && <option value="suspend_partner">{guest.short.partner} were suspended</option>}
          {guest.short.partner && <option value="end_partner">the connection with {guest.short.partner} ended</option>}
        </Form.Select>
        {what === 'extend' && (
          <Form.Control size="sm" type="date" aria-label="Until" value={day} onChange={(e) => setDay(e.target.value)} />
        )}
        {on && (
          <Form.Select size="sm" aria-label="Which grant" value={on} onChange={(e) => setResource(e.target.value)}>
            {guest.grants
              .filter((r) => r.live && !r.group)
              .map((r, i) => (
                <option key={i} value={r.resource}>
                  {r.name || r.resource}
                </option>
              ))}
          </Form.Select>
        )}
        {what && <span className="quiet">A changed rule is asked in a draft: work in it, and come back here.</span>}
      </div>
      {x.error && <Wrong error={x.error} />}
      {what === 'suspend_partner' && (
        <p className="quiet">
          A suspended partner changes no record: everything refuses at its own gate, the dates stay, and bringing it back restores what was
          there.
        </p>
      )}
      {x.data?.reason && <p className="gets-no">▼ {x.data.reason}</p>}
      {x.data && !x.data.reason && <Line steps={x.data.will} label="Line of time as it would be" />}
    </div>
  )
}
