import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type SystemKind, type SystemView } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { useChange } from '../parts/change'
import { kindWords } from './words'

type Asking = { what: 'source' | 'ours'; k: SystemKind } | { what: 'release' | 'empty' }

/** What a system keeps of our inventory, kind by kind. */
export function KeptTable({ v, admin }: { v: SystemView; admin: boolean }) {
  const [asking, setAsking] = useState<Asking>()
  if (v.kinds.length === 0) return null
  const at = (k: SystemKind, n: number, state: string, wrong = false) =>
    n === 0 ? (
      '–'
    ) : (
      <Link
        to={`/systems/${v.id}/${k.kind}${state ? `?state=${state}` : ''}`}
        className={wrong ? 'gets-no' : ''}
        aria-label={`${n} ${kindWords[k.kind].many}, ${state || 'to be looked at'}`}
      >
        {n.toLocaleString('en')}
      </Link>
    )
  return (
    <>
      <h2 className="mt-4">What it keeps of our inventory</h2>
      {v.braked > 0 && (
        <div className="notice" role="status">
          <p>
            {v.braked} guests, grants or links wait to be taken away or let in there: more than the {v.brake} that go in a day unasked.{' '}
            {admin && (
              <Button size="sm" variant="outline-primary" onClick={() => setAsking({ what: 'release' })}>
                Let them go
              </Button>
            )}
          </p>
        </div>
      )}
      {v.empty && (
        <div className="notice" role="status">
          <p>
            It shows no {v.empty} any more, and kept some before. Nothing is taken for gone until somebody says that this is right.{' '}
            {admin && (
              <Button size="sm" variant="outline-primary" onClick={() => setAsking({ what: 'empty' })}>
                It is right
              </Button>
            )}
          </p>
        </div>
      )}
      <div className="wide" role="region" aria-label="Inventory" tabIndex={0}>
        <table className="table listing">
          <thead>
            <tr>
              <th scope="col">What</th>
              <th scope="col" className="num">
                There
              </th>
              <th scope="col" className="num">
                As meant
              </th>
              <th scope="col" className="num">
                On the way
              </th>
              <th scope="col" className="num">
                Differ
              </th>
              <th scope="col" className="num">
                Changed there
              </th>
              <th scope="col" className="num">
                Unknown here
              </th>
              <th scope="col">Made where</th>
            </tr>
          </thead>
          <tbody>
            {v.kinds.map((k) => (
              <tr key={k.kind}>
                <th scope="row">
                  {kindWords[k.kind].title}
                  <span className="sub">{k.title}</span>
                </th>
                <td className="num">{k.found.toLocaleString('en')}</td>
                <td className="num">{at(k, k.confirmed, 'confirmed')}</td>
                <td className="num">{at(k, k.open, 'open')}</td>
                <td className="num">{at(k, k.differ, 'differs', true)}</td>
                <td className="num">{at(k, k.drift, 'drift', true)}</td>
                <td className="num">
                  {at(k, k.unknown, 'unknown', k.unknown > k.accepted)}
                  {k.accepted > 0 && <span className="sub">{k.accepted} let be</span>}
                </td>
                <td>
                  {k.source ? 'there and here' : 'here'}{' '}
                  {admin && k.can_be_source && (
                    <Button
                      size="sm"
                      variant="link"
                      onClick={() => setAsking({ what: k.source ? 'ours' : 'source', k })}
                      aria-label={`Change where ${kindWords[k.kind].many} are made`}
                    >
                      Change
                    </Button>
                  )}
                  {k.says && <span className="sub">{k.says}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {asking && <Ask v={v} asking={asking} close={() => setAsking(undefined)} />}
    </>
  )
}

function Ask({ v, asking, close }: { v: SystemView; asking: Asking; close: () => void }) {
  const [why, setWhy] = useState('')
  const change = useChange<unknown>(() => {
    if (asking.what === 'release' || asking.what === 'empty')
      return call('POST /api/v1/systems/{id}/records', { path: { id: v.id }, body: { do: asking.what, why } })
    const now = v.kinds.filter((k) => k.source).map((k) => k.kind as string)
    const kind: string = 'k' in asking ? asking.k.kind : ''
    const sources = asking.what === 'source' ? [...now, kind] : now.filter((x) => x !== kind)
    return call('PATCH /api/v1/systems/{id}', { path: { id: v.id }, body: { sources, why } })
  }, close)
  const many = 'k' in asking ? kindWords[asking.k.kind].many : ''
  const title = {
    source: `People make ${many} in ${v.name}`,
    ours: `${'k' in asking ? kindWords[asking.k.kind].title : ''} are made here alone`,
    release: 'Let them go',
    empty: 'The list is rightly empty',
  }[asking.what]
  return (
    <AskDialog
      title={title}
      leave="Leave it"
      submit={asking.what === 'release' ? `Let ${v.braked} go` : 'Say so'}
      danger={asking.what === 'release'}
      disabled={why.trim() === '' || change.isPending}
      error={change.error}
      close={close}
      onSubmit={() => change.mutate()}
    >
      {asking.what === 'source' && (
        <p>
          What one of ours makes there is made here, too, at the next reading, and the rules decide what it opens. What is changed or ended
          there changes and ends here. What nobody of ours made stays a finding.
        </p>
      )}
      {asking.what === 'ours' && <p>What is made there from now on stands for nothing here until somebody takes it over.</p>}
      {asking.what === 'release' && (
        <p>
          What was taken from people here, or given to them, counts there at once: {v.braked} guests, grants or links. For an hour nothing
          is held back there.
        </p>
      )}
      {asking.what === 'empty' && <p>What it kept of {v.empty} counts as taken away there, and as short here, until it is put back.</p>}
      <Form.Group controlId="kt-why">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
