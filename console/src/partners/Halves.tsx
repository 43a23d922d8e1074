import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type BothHalves, type Partner } from '../api'
import { WeighedText } from '../drafts/Weighed'
import { AskDialog } from '../parts/AskDialog'
import { since } from '../parts/bits'
import { oursWord, together } from './PartnersPage'

/** What a partner may be recorded as saying of one thing. */
export type Says = 'admits' | 'refuses' | 'unknown'

const saysWord: Record<Says, string> = { admits: 'they admit it', refuses: 'they refuse it', unknown: 'it is not known what they say' }

/** Asks who of theirs said what is recorded, before letters close over it. */
export function Said({
  p,
  said,
  error,
  busy,
  close,
  record,
}: {
  p: Partner
  said: { key: string; says: Says }
  error: unknown
  busy: boolean
  close: () => void
  record: (by: string, why: string) => void
}) {
  const [by, setBy] = useState('')
  const [why, setWhy] = useState('')
  const letters = useQuery({ queryKey: ['letters', p.id], queryFn: () => call('GET /api/v1/letters', { query: { partner: p.id } }) })
  const closes =
    said.says === 'unknown' ? [] : (letters.data?.letters ?? []).filter((l) => l.state === 'open' && l.about.includes(said.key))
  const must = said.says !== 'unknown'
  const weighed = useQuery({
    queryKey: ['weighed', p.id, p.etag, said.key, said.says],
    queryFn: () =>
      call('PUT /api/v1/partners/{id}/stances/{key}', {
        path: { id: p.id, key: said.key },
        query: { preview: true },
        body: { says: said.says },
      }),
    gcTime: 0,
  })
  return (
    <AskDialog
      title={`${said.key}: ${saysWord[said.says]}`}
      leave="Record nothing"
      submit="Record it"
      disabled={busy || (must && by.trim() === '')}
      error={error ?? weighed.error}
      close={close}
      onSubmit={() => record(by.trim(), why.trim())}
    >
      {!weighed.error && <WeighedText w={weighed.data?.weighed} />}
      {closes.length > 0 && (
        <p>
          It may close {closes.length === 1 ? 'the letter' : 'the letters'} {closes.map((l) => l.id).join(', ')}. You can take it back.
        </p>
      )}
      <Form.Group controlId="said-by">
        <Form.Label>Who of theirs said so</Form.Label>
        <Form.Control value={by} onChange={(e) => setBy(e.target.value)} required={must} maxLength={300} autoFocus />
      </Form.Group>
      <Form.Group controlId="said-why" className="mt-2">
        <Form.Label>How you know, if there is more to say</Form.Label>
        <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} maxLength={1000} />
      </Form.Group>
    </AskDialog>
  )
}

export function Opening({
  p,
  h,
  k,
  keep,
  set,
  record,
}: {
  p: Partner
  h: BothHalves | undefined
  k: string
  keep: boolean
  set: (v: boolean | undefined) => void
  record: (says: Says) => void
}) {
  const ours = k in p.opened ? (p.opened[k] ? 'yes' : 'no') : 'unset'
  const stance = p.stance.find((s) => s.key === k)
  const theirs = stance?.says ?? 'unknown'
  // An arrow key chooses, and writes nothing.
  const [picked, setPicked] = useState<string>()
  const [said, setSaid] = useState<Says>()
  useEffect(() => setPicked(undefined), [ours])
  useEffect(() => setSaid(undefined), [theirs])
  return (
    <div className="opening">
      <Form.Select
        size="sm"
        aria-label={`${k}, ours`}
        value={picked ?? ours}
        disabled={!keep}
        className={`ours-${picked ?? ours}`}
        onChange={(e) => setPicked(e.target.value)}
      >
        <option value="unset">· not opened</option>
        <option value="yes">▲ yes</option>
        <option value="no">▼ no</option>
      </Form.Select>
      <Form.Select
        size="sm"
        aria-label={`${k}, theirs`}
        value={said ?? theirs}
        disabled={!keep}
        className={`theirs theirs-${said ?? theirs}`}
        onChange={(e) => setSaid(e.target.value as Says)}
      >
        <option value="unknown">? not known</option>
        <option value="admits">△ they admit</option>
        <option value="refuses">▽ they refuse</option>
      </Form.Select>
      {picked !== undefined && picked !== ours && (
        <Button
          size="sm"
          variant="outline-primary"
          aria-label={`Set ours: ${k}`}
          onClick={() => set(picked === 'unset' ? undefined : picked === 'yes')}
        >
          Set ours
        </Button>
      )}
      {said !== undefined && said !== theirs && (
        <Button size="sm" variant="outline-primary" aria-label={`Record theirs: ${k}`} onClick={() => record(said)}>
          Record theirs
        </Button>
      )}
      {h && (
        <span className="sub">
          <b>{together[h.joint]}</b>
          {h.both && h.joint === 'open' && `: ${h.both.join(', ')}`}
          {h.joint === 'shut' && h.ours === 'yes' && `, ${oursWord(h)}`}
          {h.source && h.as_of && (
            <>
              <br />
              {h.old ? 'too old: ' : ''}
              {h.source}
              {h.said_by && `, ${h.said_by}`}, {since(h.as_of)}
            </>
          )}
        </span>
      )}
    </div>
  )
}
