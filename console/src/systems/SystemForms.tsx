import { AskDialog } from '../parts/AskDialog'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { call, type SystemSetting, type SystemView } from '../api'
import { useChange } from '../parts/change'
import { dayFromNow } from '../parts/dates'
import { kindWords } from './words'

export type Asking =
  | { what: 'put_back' | 'accept' | 'again'; s: SystemSetting }
  | { what: 'carry' | 'look' | 'paused' | 'end' | 'beyond' | 'no' | 'nightly' | 'days' }

export const turns: Record<string, string> = {
  loosens: 'loosens',
  tightens: 'tightens',
  both: 'loosens and tightens',
  same: 'changes words alone',
  unclear: 'cannot be told',
}

/** Asks why, shows what it does, and does it. */
export function Decide({ v, asking, close }: { v: SystemView; asking: Asking; close: () => void }) {
  const go = useNavigate()
  const [why, setWhy] = useState('')
  const [day, setDay] = useState(dayFromNow(7))
  const change = useChange<unknown>(
    () => {
      if ('s' in asking)
        return call('POST /api/v1/systems/{id}/settings/{path}', {
          path: { id: v.id, path: asking.s.path },
          body: { do: asking.what, why, ...(asking.what === 'accept' ? { until: day } : {}) },
        })
      if (asking.what === 'end') return call('DELETE /api/v1/systems/{id}', { path: { id: v.id }, query: { why: why } })
      if (asking.what === 'nightly' || asking.what === 'days')
        return call('PATCH /api/v1/systems/{id}', { path: { id: v.id }, body: { nightly: asking.what === 'nightly', why } })
      if (asking.what === 'beyond' || asking.what === 'no')
        return call('PATCH /api/v1/systems/{id}', { path: { id: v.id }, body: { put_back: asking.what, why } })
      return call('PATCH /api/v1/systems/{id}', {
        path: { id: v.id },
        body: { mode: asking.what, why, ...(asking.what === 'carry' ? { digest: v.digest } : {}) },
      })
    },
    () => {
      if (asking.what === 'end') void go('/systems')
      close()
    },
  )
  const name = 's' in asking ? asking.s.title : v.name
  const title = {
    put_back: `Put back: ${name}`,
    accept: `Accept for a while: ${name}`,
    again: `Send again: ${name}`,
    carry: `Have ${name} carried`,
    look: `Only look at ${name}`,
    paused: `Pause ${name}`,
    end: `Take ${name} away`,
    beyond: 'Put back what is loosened there',
    no: 'Put nothing back unasked',
    nightly: 'Try it every night',
    days: 'Stop trying it every night',
  }[asking.what]
  const submit = {
    put_back: 'Put it back',
    accept: 'Accept it',
    again: 'Send it again',
    carry: v.write === 0 ? 'Have it carried' : `Write ${v.write} ${v.write === 1 ? 'change' : 'changes'}`,
    look: 'Only look',
    paused: 'Pause it',
    end: 'Take it away',
    beyond: 'Put it back by itself',
    no: 'Put nothing back',
    nightly: 'Try it every night',
    days: 'Stop it',
  }[asking.what]
  const write = v.settings.filter((s) => s.there && s.found !== s.meant && s.turn !== 'same')
  return (
    <AskDialog
      title={title}
      leave="Leave it"
      submit={submit}
      danger={asking.what === 'end'}
      wide={asking.what === 'carry'}
      disabled={why.trim() === '' || change.isPending}
      error={change.error}
      close={close}
      onSubmit={() => change.mutate()}
    >
      {'s' in asking && (
        <p>
          It says “{asking.s.found}”, and “{asking.s.meant}” is meant.{' '}
          {asking.what !== 'accept' && asking.s.turn && `Writing that ${turns[asking.s.turn]} what counts there.`}
        </p>
      )}
      {asking.what === 'accept' && (
        <Form.Group className="mb-2" controlId="sd-day">
          <Form.Label>Until</Form.Label>
          <Form.Control size="sm" type="date" value={day} onChange={(e) => setDay(e.target.value)} />
        </Form.Group>
      )}
      {asking.what === 'carry' &&
        (v.write === 0 ? (
          <p>It holds already what is meant. What is published from now on is written there.</p>
        ) : (
          <>
            <p>This is written there now, with what tightens first; and what is published from now on.</p>
            <ul className="steps-shown">
              {write.map((s) => (
                <li key={s.path}>
                  <b>{s.title}</b>: {s.set ? (s.meant_own ?? 'taken back') : `“${s.found}” becomes “${s.meant}”`}, which{' '}
                  {turns[s.turn ?? 'unclear']}
                  {s.by_hand ? '; by hand, in its own console' : ''}.
                </li>
              ))}
              {v.kinds
                .filter((k) => k.differ + k.drift > 0)
                .map((k) => (
                  <li key={k.kind}>
                    <b>{k.title}</b>:{' '}
                    <Link to={`/systems/${v.id}/${k.kind}`}>
                      {(k.differ + k.drift).toLocaleString('en')}{' '}
                      {k.differ + k.drift === 1 ? kindWords[k.kind].one : kindWords[k.kind].many}
                    </Link>{' '}
                    as meant here.
                  </li>
                ))}
            </ul>
          </>
        ))}
      {asking.what === 'look' && <p>It goes on being read. What is published does not reach it any more.</p>}
      {asking.what === 'paused' && <p>It is neither read nor written. What counts there is not known any more after a while.</p>}
      {asking.what === 'end' && <p>What it holds stays as it is there. What was read of it is forgotten.</p>}
      {asking.what === 'beyond' && (
        <p>
          What somebody loosens there without us is set back to what is meant at the next reading, at most twice in a row; then it is left
          and told.
        </p>
      )}
      <Form.Group controlId="sd-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
