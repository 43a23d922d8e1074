import { Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { call, type RecordsDecided } from '../api'
import { WeighedText } from '../drafts/Weighed'
import { useChange } from '../parts/change'
import { Combo } from '../parts/Combo'
import { dayFromNow } from '../parts/dates'
import { type KeptKind, kindWords } from './words'

export type Do = 'take_over' | 'end_there' | 'put_back' | 'take_in' | 'accept' | 'again'

export const names: Record<Do, string> = {
  take_over: 'Take over',
  end_there: 'End there',
  put_back: 'Put back',
  take_in: 'Let it count here, too',
  accept: 'Let be for a while',
  again: 'Write again',
}

/** Shows what a decision would do, asks why, and does it. */
export function Decide({
  id,
  kind,
  does,
  keys,
  close,
  done,
}: {
  id: string
  kind: string
  does: Do
  keys: string[]
  close: () => void
  done: () => void
}) {
  const [f, setF] = useState({ why: '', sponsor: '', purpose: '', until: does === 'accept' ? dayFromNow(7) : '' })
  const guests = does === 'take_over' && kind === 'guest'
  const body = () => ({
    do: does,
    kind: kind as KeptKind,
    ...(keys.length > 0 ? { keys } : { all: true }),
    ...(guests ? { sponsor: f.sponsor, purpose: f.purpose } : {}),
    ...(f.until ? { until: f.until } : {}),
    ...(f.why ? { why: f.why } : {}),
  })
  const ready = !guests || (f.sponsor !== '' && f.purpose !== '')
  const would = useQuery({
    queryKey: ['weighed', 'records', id, body()],
    queryFn: () => call('POST /api/v1/systems/{id}/records', { path: { id }, query: { preview: true }, body: body() }),
    enabled: ready,
    placeholderData: (old) => old,
    gcTime: 0,
    retry: false,
  })
  const change = useChange<RecordsDecided>(
    () => call('POST /api/v1/systems/{id}/records', { path: { id }, body: body() }),
    () => {
      done()
      close()
    },
  )
  const x = would.data
  const n = x?.done ?? keys.length
  const refused = x?.lines.filter((l) => l.result === 'refused') ?? []
  return (
    <AskDialog
      title={`${names[does]}: ${n} ${n === 1 ? kindWords[kind as KeptKind].one : kindWords[kind as KeptKind].many}`}
      leave="Leave it"
      submit={names[does]}
      danger={does === 'end_there'}
      disabled={!ready || f.why.trim() === '' || change.isPending || n === 0}
      error={change.error ?? (ready ? would.error : undefined)}
      close={close}
      onSubmit={() => change.mutate()}
    >
      {guests && (
        <>
          <div className="plain-combo mb-2">
            <Combo
              label="Who answers for them"
              kind="person"
              value={f.sponsor}
              onChange={(sponsor) => setF({ ...f, sponsor })}
              placeholder="a person of ours"
            />
          </div>
          <Form.Group className="mb-2" controlId="rd-purpose">
            <Form.Label>What they are here for</Form.Label>
            <Form.Control size="sm" value={f.purpose} onChange={(e) => setF({ ...f, purpose: e.target.value })} />
          </Form.Group>
        </>
      )}
      {(does === 'accept' || does === 'take_over') && (
        <Form.Group className="mb-2" controlId="rd-until">
          <Form.Label>{does === 'accept' ? 'Until' : 'Their end, if they have one'}</Form.Label>
          <Form.Control size="sm" type="date" value={f.until} onChange={(e) => setF({ ...f, until: e.target.value })} />
        </Form.Group>
      )}
      {x && (
        <>
          <ul className="steps-shown">
            {x.lines
              .filter((l) => l.result === 'done')
              .slice(0, 6)
              .map((l) => (
                <li key={l.key}>
                  <b>{l.key}</b>
                  {l.says !== l.key && `: ${l.says}`}
                </li>
              ))}
            {x.done > 6 && <li>and {x.done - 6} more</li>}
          </ul>
          {refused.length > 0 && (
            <p>
              {refused.length} cannot be: {refused[0].key}: {refused[0].says}
              {refused.length > 1 && `; and ${refused.length - 1} more`}.
            </p>
          )}
          {x.weighed && <WeighedText w={x.weighed} />}
          {x.waits && <p>Dates of those who come wait until an administrator releases them.</p>}
        </>
      )}
      <Form.Group controlId="rd-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={f.why} onChange={(e) => setF({ ...f, why: e.target.value })} />
      </Form.Group>
    </AskDialog>
  )
}
