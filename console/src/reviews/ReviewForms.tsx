import { Form } from 'react-bootstrap'
import { Combo } from '../parts/Combo'
import { WeighedText } from '../drafts/Weighed'
import { AskDialog } from '../parts/AskDialog'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { call, type ReviewsDone, type Round } from '../api'
import { useRefresh } from '../parts/change'

export const dos = { keep: 'Keep', narrower: 'Make narrower', end: 'End', hand_over: 'Hand over', not_mine: 'Not mine' } as const

export type Do = keyof typeof dos

/** An answer to lines, with what it takes away before it is given. */
export function Answer({
  id,
  what,
  lines,
  close,
  done,
}: {
  id: string
  what: Do
  lines: number[]
  close: () => void
  done: (x: ReviewsDone) => void
}) {
  const [why, setWhy] = useState('')
  const [last, setLast] = useState('')
  const [role, setRole] = useState('view')
  const [item, setItem] = useState('')
  const [to, setTo] = useState('')
  const person = to.trim().replace(/^person:/, '')
  const body = {
    do: what,
    lines,
    ...(what === 'keep' && last ? { until: last } : {}),
    ...(what === 'narrower' ? { role, ...(item.trim() ? { item: item.trim() } : {}) } : {}),
    ...(what === 'hand_over' ? { to: person } : {}),
    ...(why.trim() ? { why: why.trim() } : {}),
  }
  const takes = what === 'end' || what === 'narrower'
  const ahead = useQuery({
    queryKey: ['review-ahead', id, JSON.stringify({ ...body, why: undefined })],
    queryFn: () => call('POST /api/v1/reviews/{id}/answers', { path: { id }, query: { preview: true }, body: { ...body, why: undefined } }),
    enabled: takes,
    retry: false,
    gcTime: 0,
  })
  const go = useMutation({
    mutationFn: () => call('POST /api/v1/reviews/{id}/answers', { path: { id }, body }),
    onSuccess: (x) => {
      done(x)
      close()
    },
  })
  return (
    <AskDialog
      title={`${dos[what]}: ${lines.length === 1 ? 'one line' : `${lines.length} lines`}`}
      leave="Cancel"
      submit={dos[what]}
      danger={what === 'end'}
      disabled={go.isPending || (takes && !ahead.data) || (what === 'hand_over' && person === '')}
      error={go.error ?? ahead.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      {what === 'keep' && (
        <Form.Group controlId="ra-until" className="mb-2">
          <Form.Label>An earlier end (else as it is)</Form.Label>
          <Form.Control size="sm" type="date" value={last} onChange={(e) => setLast(e.target.value)} />
        </Form.Group>
      )}
      {what === 'narrower' && (
        <Form.Group controlId="ra-role" className="mb-2">
          <Form.Label>The role that is enough</Form.Label>
          <Form.Select size="sm" value={role} onChange={(e) => setRole(e.target.value)}>
            <option>view</option>
            <option>contribute</option>
            {item.trim() && <option>manage</option>}
          </Form.Select>
        </Form.Group>
      )}
      {what === 'narrower' && (
        <div className="plain-combo mb-2">
          <Combo label="On one thing of the space alone (else on all of it)" kind="resource" value={item} onChange={setItem} />
        </div>
      )}
      {what === 'hand_over' && (
        <div className="plain-combo mb-2">
          <Combo label="Who is asked instead" kind="person" value={to} onChange={setTo} />
        </div>
      )}
      {what === 'not_mine' && <p>The owner of it is asked, or a keeper.</p>}
      {ahead.data && (
        <>
          {ahead.data.refused > 0 && <p>{[...new Set(ahead.data.lines.filter((l) => l.reason).map((l) => l.reason))].join('; ')}</p>}
          {ahead.data.weighed && <WeighedText w={ahead.data.weighed} />}
        </>
      )}
      <Form.Group controlId="ra-why" className="mt-2">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

export function End({ r, close }: { r: Round; close: () => void }) {
  const refresh = useRefresh()
  const [why, setWhy] = useState('')
  const ahead = useQuery({
    queryKey: ['review-end-ahead', r.id, r.open],
    queryFn: () => call('POST /api/v1/reviews/{id}/end', { path: { id: r.id }, query: { preview: true }, body: {} }),
    enabled: r.open > 0,
    retry: false,
    gcTime: 0,
  })
  const ends = ahead.data?.ends ?? 0
  const go = useMutation({
    mutationFn: () => call('POST /api/v1/reviews/{id}/end', { path: { id: r.id }, body: { why: why.trim() } }),
    onSuccess: () => {
      void refresh()
      close()
    },
  })
  return (
    <AskDialog
      danger
      title={`End ${r.name} now`}
      leave="Leave it open"
      submit="End it"
      disabled={go.isPending || why.trim() === '' || (r.open > 0 && !ahead.data)}
      error={go.error ?? ahead.error}
      close={close}
      onSubmit={() => go.mutate()}
    >
      <p>
        {r.open === 0 ? 'Everything is answered.' : `Nobody answered ${r.open === 1 ? 'one line' : `${r.open} lines`}.`}
        {ahead.data &&
          ` As guests.review_silence says, ${[ends > 0 && (ends === 1 ? 'one role ends' : `${ends} roles end`), r.open > ends && (r.open - ends === 1 ? 'one counts as reviewed' : `${r.open - ends} count as reviewed`)].filter(Boolean).join(', and ')}.`}
      </p>
      {r.open > 0 && !ahead.error && <WeighedText w={ahead.data?.weighed} />}
      <Form.Group controlId="re-why">
        <Form.Label>Why before its day</Form.Label>
        <Form.Control size="sm" required value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
