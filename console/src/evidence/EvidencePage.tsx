import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { call } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Combo } from '../parts/Combo'
import { Plans } from './Plans'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'

/** Records of what somebody outside could do at a moment. */
export function EvidencePage({ role }: { role: string }) {
  const [making, setMaking] = useState(false)
  const list = useQuery({ queryKey: ['evidence'], queryFn: () => call('GET /api/v1/evidence') })
  const all = list.data?.records ?? []
  return (
    <Page
      title="Records of reach"
      lead="What somebody from outside could do at a moment, line by line, signed and sealed in the journal. Whoever gets one can verify it without us, in a year or in ten."
      tools={
        role === 'administrator' || role === 'auditor' ? (
          <Button size="sm" onClick={() => setMaking(true)}>
            Make one
          </Button>
        ) : undefined
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading records" />}
      {list.data && all.length === 0 && <Empty>There is no record yet. Make one before something ends, or when the year does.</Empty>}
      {all.length > 0 && (
        <table className="table listing">
          <thead>
            <tr>
              <th scope="col">Record</th>
              <th scope="col">Reach anything</th>
              <th scope="col">Lines</th>
              <th scope="col">Signed off</th>
            </tr>
          </thead>
          <tbody>
            {all.map((x) => (
              <tr key={x.id}>
                <td>
                  <Link to={`/evidence/${x.id}`}>{x.says}</Link>
                  <span className="quiet sub">
                    {when(x.at)} · {x.why} · {x.id}
                  </span>
                </td>
                <td>{x.parties}</td>
                <td>{x.lines.toLocaleString('en-GB')}</td>
                <td>
                  {x.signed_off.map((s) => s.by).join(', ')}
                  {x.open.length > 0 && <span className="sub held">waits for {x.open.join(', ')}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Plans may={role === 'administrator' || role === 'auditor'} />
      {making && <Make close={() => setMaking(false)} />}
    </Page>
  )
}

function Make({ close }: { close: () => void }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [party, setParty] = useState('')
  const [resource, setResource] = useState('')
  const [at, setAt] = useState('')
  const [must, setMust] = useState('')
  const [every, setEvery] = useState('')
  const [why, setWhy] = useState('')
  const make = useMutation({
    mutationFn: async () => {
      const body = {
        ...(party.trim() ? { party: party.trim() } : {}),
        ...(resource.trim() ? { resource: resource.trim() } : {}),
        ...(must.trim() ? { sign_off: must.split(/[\s,]+/).filter(Boolean) } : {}),
        why,
      }
      if (every) return call('POST /api/v1/evidence-plans', { body: { ...body, every: Number(every) } })
      return call('POST /api/v1/evidence', { body: { ...body, ...(at ? { at } : {}) } })
    },
    onSuccess: (x) => {
      void client.invalidateQueries({ queryKey: ['evidence'] })
      if (!every) return navigate(`/evidence/${x.id}`)
      void client.invalidateQueries({ queryKey: ['evidence-plans'] })
      close()
    },
  })
  return (
    <AskDialog
      title="Make a record of reach"
      leave="Cancel"
      submit={make.isPending ? 'Writing it down …' : 'Make it'}
      disabled={make.isPending || why.trim() === ''}
      error={make.error}
      close={close}
      onSubmit={() => make.mutate()}
    >
      <div className="plain-combo mb-2">
        <Combo
          label="Of whom; leave empty for everybody"
          kind="party"
          value={party}
          onChange={setParty}
          placeholder="partner:…, domain:…, group:… or an address"
        />
      </div>
      <div className="plain-combo mb-2">
        <Combo
          label="With what; leave empty for everything"
          kind="resource"
          value={resource}
          onChange={setResource}
          placeholder="a space with all in it, a folder, a meeting"
        />
      </div>
      <Form.Group controlId="r-at" className="mb-2">
        <Form.Label>
          As of <span className="quiet">empty: now</span>
        </Form.Label>
        <Form.Control size="sm" type="datetime-local" disabled={every !== ''} value={at} onChange={(e) => setAt(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="r-every" className="mb-2">
        <Form.Label>
          Again every so many days <span className="quiet">empty: once</span>
        </Form.Label>
        <Form.Control size="sm" type="number" min={1} max={366} value={every} onChange={(e) => setEvery(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="r-must" className="mb-2">
        <Form.Label>
          Who must sign it off <span className="quiet">names of accounts</span>
        </Form.Label>
        <Form.Control size="sm" value={must} onChange={(e) => setMust(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="r-why">
        <Form.Label>What it is for</Form.Label>
        <Form.Control size="sm" required maxLength={1000} value={why} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
