import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Wish } from '../api'
import { dayYear, when, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

/** A guest asks for more time; whoever answers for them answers. */
export function WishBox({ wish }: { wish: Wish }) {
  const refresh = useRefresh()
  const [text, setText] = useState('')
  const go = useMutation({
    mutationFn: (grant: boolean) =>
      call('POST /api/v1/wishes/{address}/answer', {
        path: { address: wish.address },
        body: { grant, ...(grant && wish.until ? { until: wish.until } : {}), ...(text ? { text } : {}) },
      }),
    onSuccess: () => void refresh(),
  })
  return (
    <aside className="wish" aria-label={`${wish.address} asks for more time`}>
      <p>
        <Link to={`/guests/${encodeURIComponent(wish.address)}`}>{wish.address}</Link> asks for more time
        {wish.until ? `, until ${dayYear(wish.until)}` : ''}: “{wish.text}” <span className="quiet">({when(wish.made)})</span>
      </p>
      {go.error && <Wrong error={go.error} />}
      <div className="filters">
        <Form.Control size="sm" aria-label="Answer" placeholder="what they read" value={text} onChange={(e) => setText(e.target.value)} />
        <Button size="sm" disabled={go.isPending} onClick={() => go.mutate(true)}>
          Give more time
        </Button>
        <Button size="sm" variant="outline-secondary" disabled={go.isPending || !text.trim()} onClick={() => go.mutate(false)}>
          Say no
        </Button>
      </div>
    </aside>
  )
}

/** What waits for whoever answers for guests: more time, and guests to take over. */
export function Waits() {
  const refresh = useRefresh()
  const wishes = useQuery({ queryKey: ['wishes'], queryFn: () => call('GET /api/v1/wishes') })
  const offers = useQuery({ queryKey: ['offers'], queryFn: () => call('GET /api/v1/offers') })
  const lost = useQuery({
    queryKey: ['guests', 'lost-mail'],
    queryFn: () => call('GET /api/v1/guests', { query: { needs: 'mail', limit: 1 } }),
  })
  const answer = useMutation({
    mutationFn: (x: { id: string; accept: boolean }) =>
      call('POST /api/v1/offers/{id}/answer', { path: { id: x.id }, body: { accept: x.accept } }),
    onSuccess: () => void refresh(),
  })
  return (
    <>
      {answer.error && <Wrong error={answer.error} />}
      {offers.data?.offers.map((o) => (
        <aside className="wish" key={o.id} aria-label={`Guests of ${o.from}`}>
          <p>
            {o.from} leaves and answered for {o.guests} guests and {o.grants} grants. Will {o.to} take over?
          </p>
          <div className="filters">
            <Button size="sm" disabled={answer.isPending} onClick={() => answer.mutate({ id: o.id, accept: true })}>
              Take over
            </Button>
            <Button
              size="sm"
              variant="outline-secondary"
              disabled={answer.isPending}
              onClick={() => answer.mutate({ id: o.id, accept: false })}
            >
              Decline
            </Button>
          </div>
        </aside>
      ))}
      {lost.data && lost.data.total > 0 && (
        <aside className="wish" aria-label="Mail that does not arrive">
          <p>
            <Link to="/guests?needs=mail">
              {lost.data.total === 1 ? 'Mail does not arrive at one guest' : `Mail does not arrive at ${lost.data.total} guests`}
            </Link>
            {lost.data.total === 1 && lost.data.guests[0] && `: ${lost.data.guests[0].name || lost.data.guests[0].address}`}. Try again, or
            take the invitation back, on the guest's page.
          </p>
        </aside>
      )}
      {wishes.data?.wishes.map((w) => (
        <WishBox key={w.address} wish={w} />
      ))}
    </>
  )
}
