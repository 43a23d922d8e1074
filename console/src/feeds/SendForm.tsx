import { useMutation } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Form } from 'react-bootstrap'
import { call, type FeedOut } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { useRefresh } from '../parts/change'
import { counted } from './words'
import { Why } from './FeedOutForms'

/** Sends what is due, share by share, with a bar; it can be stopped, and nothing is lost. */
export function Send({ f, due, person, close }: { f: FeedOut; due: number; person?: { person: string; name: string }; close: () => void }) {
  const refresh = useRefresh()
  const [few, setFew] = useState('3')
  const [all, setAll] = useState(false)
  const [why, setWhy] = useState('')
  const [left, setLeft] = useState<number>()
  const [sum, setSum] = useState<{ did: Record<string, number>; refused: number; problem?: string }>({ did: {}, refused: 0 })
  const stop = useRef(false)
  const go = useMutation({
    mutationFn: async () => {
      stop.current = false
      const did: Record<string, number> = {}
      for (let want = person ? 1 : all ? Infinity : Number(few); want > 0 && !stop.current;) {
        const x = await call('POST /api/v1/feeds-out/{partner}/send', {
          path: { partner: f.partner },
          body: { ...(person ? { person: person.person } : { most: Math.min(100, want) }), why: why.trim() },
        })
        let n = 0
        for (const [k, some] of Object.entries(x.done)) {
          did[k] = (did[k] ?? 0) + some
          n += some
        }
        setSum({ did: { ...did }, refused: x.refused, problem: x.problem })
        setLeft(x.left)
        want -= n + x.refused
        if (n === 0 || x.problem || person || x.left <= x.refused) break
      }
      void refresh()
    },
  })
  const done = go.isSuccess
  return (
    <AskDialog
      title={person ? `Send ${person.name} to ${f.name}` : `Send to ${f.name}`}
      lock={false}
      leave={go.isPending ? 'Stop' : done ? 'Close' : 'Cancel'}
      submit={person ? 'Send them now' : all ? `Send all ${due}` : `Send ${few}`}
      disabled={go.isPending || (done && !!person) || !why.trim() || (!person && !all && !(Number(few) > 0))}
      error={go.error}
      close={() => (go.isPending ? (stop.current = true) : close())}
      onSubmit={() => go.mutate()}
    >
      {!person && (
        <>
          <Form.Check id="fo-few" type="radio" label="a few first" disabled={go.isPending} checked={!all} onChange={() => setAll(false)} />
          {!all && (
            <Form.Control
              size="sm"
              className="mb-2"
              type="number"
              min={1}
              aria-label="How many"
              value={few}
              onChange={(e) => setFew(e.target.value)}
            />
          )}
          <Form.Check
            id="fo-all"
            className="mb-2"
            type="radio"
            label={`all ${due}`}
            disabled={go.isPending}
            checked={all}
            onChange={() => setAll(true)}
          />
        </>
      )}
      <Why id="fo-send-why" value={why} onChange={setWhy} />
      {left !== undefined && (
        <div role="status" className="mt-2">
          {!person && <progress max={due} value={Math.max(0, due - left)} aria-label="Sent" />}
          <p>
            {counted(sum.did) || 'Nothing was done'}. {!person && `${left} left.`}
            {sum.refused > 0 && <span className="gets-no"> ▼ {sum.refused} not taken; the log says why.</span>}
            {sum.problem && <span className="gets-no"> ▼ It was given up: {sum.problem}</span>}
          </p>
        </div>
      )}
    </AskDialog>
  )
}
