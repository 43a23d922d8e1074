import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { call } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { Combo } from '../parts/Combo'
import { dayFromNow, until, when } from '../parts/dates'
import { Progress } from './words'

/** Rounds of review: whether what people outside hold is still needed. */
export function ReviewsPage({ role }: { role: string }) {
  const [beginning, setBeginning] = useState(false)
  const list = useQuery({ queryKey: ['reviews'], queryFn: () => call('GET /api/v1/reviews') })
  const may = role === 'administrator' || role === 'keeper'
  const all = list.data?.rounds ?? []
  return (
    <Page
      title="Reviews"
      lead="Those who answer for it are asked, line by line, whether what people outside hold is still needed. What nobody answers by the last day ends, or counts as confirmed: the rule guests.review_silence says which."
      tools={
        may ? (
          <Button size="sm" onClick={() => setBeginning(true)}>
            Begin a round
          </Button>
        ) : undefined
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading" />}
      {list.data && all.length === 0 && (
        <Empty>
          {may ? 'There is no round yet. Begin one before a loan ends, once a year, or when an auditor asks.' : 'Nothing is asked of you.'}
        </Empty>
      )}
      {all.length > 0 && (
        <ul className="rounds">
          {all.map((r) => (
            <li key={r.id}>
              <Link to={`/reviews/${r.id}`}>{r.name}</Link>
              <p className="quiet">
                {r.about} · {r.closed ? `over since ${when(r.closed)}` : `until ${until(r.until)}`} · begun by {r.by}: {r.why}
              </p>
              <Progress r={r} />
              {r.mine > 0 && (
                <p>
                  <b>{r.mine === 1 ? 'One line waits' : `${r.mine} lines wait`} for you.</b>
                </p>
              )}
            </li>
          ))}
        </ul>
      )}
      {beginning && <BeginRound close={() => setBeginning(false)} />}
    </Page>
  )
}

function BeginRound({ close }: { close: () => void }) {
  const refresh = useRefresh()
  const navigate = useNavigate()
  const [name, setName] = useState('')
  const [scope, setScope] = useState<'all' | 'partner' | 'space' | 'bundle'>('partner')
  const [of, setOf] = useState('')
  const [whose, setWhose] = useState('')
  const [last, setLast] = useState(dayFromNow(30))
  const [why, setWhy] = useState('')
  const body = () => ({
    name: name.trim(),
    until: last,
    ...(scope !== 'all' ? { [scope]: of.trim().replace(/^[a-z]+:/, '') } : {}),
    ...(whose ? { [whose.split('=')[0]]: whose.split('=')[1] } : {}),
    ...(why.trim() ? { why: why.trim() } : {}),
  })
  const look = useMutation({ mutationFn: () => call('POST /api/v1/reviews', { query: { preview: true }, body: body() }) })
  const begin = useMutation({
    mutationFn: () => call('POST /api/v1/reviews', { body: body() }),
    onSuccess: (r) => {
      void refresh()
      close()
      navigate(`/reviews/${r.id}`)
    },
  })
  const incomplete = name.trim() === '' || last === '' || (scope !== 'all' && of.trim() === '')
  return (
    <AskDialog
      title="Begin a round of review"
      leave="Cancel"
      submit="Begin it"
      disabled={incomplete || why.trim() === '' || begin.isPending}
      error={begin.error ?? look.error}
      close={close}
      onSubmit={() => begin.mutate()}
      more={
        <Button variant="outline-primary" disabled={incomplete || look.isPending} onClick={() => look.mutate()}>
          Who is asked?
        </Button>
      }
    >
      <Form.Group controlId="rv-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control size="sm" required maxLength={200} value={name} onChange={(e) => setName(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="rv-scope" className="mb-2">
        <Form.Label>It asks about</Form.Label>
        <Form.Select size="sm" value={scope} onChange={(e) => (setScope(e.target.value as typeof scope), setOf(''))}>
          <option value="partner">what people of a partner hold</option>
          <option value="space">what is held in a space</option>
          <option value="bundle">what follows from a bundle</option>
          <option value="all">everything that is held</option>
        </Form.Select>
      </Form.Group>
      {scope !== 'all' && (
        <div className="plain-combo mb-2">
          <Combo label="Which" kind={scope === 'space' ? 'resource' : scope} value={of} onChange={setOf} />
        </div>
      )}
      <Form.Group controlId="rv-whose" className="mb-2">
        <Form.Label>Of whom</Form.Label>
        <Form.Select size="sm" value={whose} onChange={(e) => setWhose(e.target.value)}>
          <option value="">everybody</option>
          <option value="needs=seen">people not seen for 30 days</option>
          <option value="needs=sponsor">people with nobody who answers for them</option>
          <option value="state=invited">people who were invited and have not come</option>
          <option value="state=suspended">people who are suspended</option>
          <option value="origin=fed">people whom their organisation maintains</option>
          <option value="origin=shared">people who came by something that was shared with them</option>
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="rv-until" className="mb-2">
        <Form.Label>Last day to answer</Form.Label>
        <Form.Control size="sm" type="date" required value={last} onChange={(e) => setLast(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="rv-why" className="mb-2">
        <Form.Label>Why (those who are asked read it)</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
      {look.data && (
        <p role="status">
          {look.data.lines === 1 ? 'One line' : `${look.data.lines} lines`}: {look.data.waits.map((w) => `${w.name} ${w.lines}`).join(', ')}
          .
        </p>
      )}
    </AskDialog>
  )
}
