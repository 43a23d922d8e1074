import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Alert, Button, Form } from 'react-bootstrap'
import { Link, useNavigate, useParams } from 'react-router'
import { call, type Evidence, type EvidencePlan, type Verified } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Combo } from '../parts/Combo'
import { Plans } from './Plans'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'

/** Records of what somebody outside could do at a moment. */
export function EvidencePage({ role }: { role: string }) {
  const [making, setMaking] = useState(false)
  const list = useQuery({ queryKey: ['evidence'], queryFn: () => call<{ records: Evidence[] }>('GET', '/api/v1/evidence') })
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
    mutationFn: () =>
      call<Evidence | EvidencePlan>('POST', every ? '/api/v1/evidence-plans' : '/api/v1/evidence', {
        ...(every ? { every: Number(every) } : {}),
        ...(party.trim() ? { party: party.trim() } : {}),
        ...(resource.trim() ? { resource: resource.trim() } : {}),
        ...(at && !every ? { at } : {}),
        ...(must.trim() ? { sign_off: must.split(/[\s,]+/).filter(Boolean) } : {}),
        why,
      }),
    onSuccess: (x) => {
      void client.invalidateQueries({ queryKey: ['evidence'] })
      if (!every) return navigate(`/evidence/${x.id}`)
      void client.invalidateQueries({ queryKey: ['evidence-plans'] })
      close()
    },
  })
  return (
    <AskDialog title="Make a record of reach" leave="Cancel" submit={make.isPending ? 'Writing it down …' : 'Make it'} disabled={make.isPending || why.trim() === ''} error={make.error} close={close} onSubmit={() => make.mutate()}>
      <div className="plain-combo mb-2">
        <Combo label="Of whom; leave empty for everybody" kind="party" value={party} onChange={setParty} placeholder="partner:…, domain:…, group:… or an address" />
      </div>
      <div className="plain-combo mb-2">
        <Combo label="With what; leave empty for everything" kind="resource" value={resource} onChange={setResource} placeholder="a space with all in it, a folder, a meeting" />
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

/** One record: what it states, whether it is as it was signed, and signing it off. */
export function RecordPage({ name }: { name: string }) {
  const { id = '' } = useParams()
  const client = useQueryClient()
  const at = `/api/v1/evidence/${encodeURIComponent(id)}`
  const found = useQuery({ queryKey: ['evidence', id], queryFn: () => call<Evidence>('GET', at) })
  const verify = useMutation({ mutationFn: () => call<Verified>('GET', `${at}/verification`) })
  const [signing, setSigning] = useState(false)
  const [password, setPassword] = useState('')
  const [note, setNote] = useState('')
  const sign = useMutation({
    mutationFn: () => call<Evidence>('POST', `${at}/sign-off`, { password, ...(note.trim() ? { note } : {}) }),
    onSuccess: (x) => {
      client.setQueryData(['evidence', id], x)
      void client.invalidateQueries({ queryKey: ['evidence'], exact: true })
      setSigning(false)
    },
  })
  const x = found.data
  if (found.error) return <Page title="Record"><Wrong error={found.error} retry={() => void found.refetch()} /></Page>
  if (!x) return <Waiting what="Reading the record" />
  const mine = x.signed_off.some((s) => s.by === name)
  return (
    <Page
      title={x.says}
      lead={`As of ${when(x.at)}: ${x.why}`}
      tools={
        <>
          <a className="btn btn-sm btn-outline-primary" href={`${at}/sheet`} target="_blank" rel="noreferrer">
            The sheet
          </a>
          <a className="btn btn-sm btn-outline-primary" href={`${at}/sheet?form=pdf`} download={`record-${x.id}.pdf`}>
            As PDF
          </a>
          <a className="btn btn-sm btn-outline-primary" href={`${at}/archive`} download>
            Take it with you
          </a>
          <Button size="sm" variant="outline-primary" disabled={verify.isPending} onClick={() => verify.mutate()}>
            {verify.isPending ? 'Verifying …' : 'Verify it'}
          </Button>
          {!mine && (
            <Button size="sm" onClick={() => setSigning(true)}>
              Sign it off
            </Button>
          )}
        </>
      }
    >
      {verify.error && <Wrong error={verify.error} />}
      {verify.data && (
        <Alert variant={verify.data.ok ? 'success' : 'danger'} className="verified">
          <p>{verify.data.ok ? 'It is as it was signed, and as the journal took it in.' : 'It is not as it was signed.'}</p>
          <ul>
            {verify.data.checks.map((c) => (
              <li key={c.what}>
                <span className={`stands is-${c.ok ? 'held' : 'broken'}`}>
                  <span aria-hidden="true">{c.ok ? '▲' : '▼'}</span> {c.what}
                </span>{' '}
                {c.says}
              </li>
            ))}
          </ul>
        </Alert>
      )}
      <dl className="facts">
        {(
          [
            ['Record', x.id],
            ['Reach anything', `${x.parties} known parties and links, ${x.newcomers} typical newcomers`],
            ['Lines', x.lines.toLocaleString('en-GB')],
            ['Made', `${when(x.made)} by ${x.by}, on revision ${x.revision}`],
            ['In the journal', `change ${x.change}`],
            ['Not looked at', x.not_looked_at.join('; ')],
            ['SHA-256', x.digest],
          ] as const
        ).map(([what, is]) => (
          <div key={what} className="fact-pair">
            <dt>{what}</dt>
            <dd>{is}</dd>
          </div>
        ))}
        {x.signed_off.map((s) => (
          <div key={s.by} className="fact-pair">
            <dt>Signed off</dt>
            <dd>
              {s.by}, {when(s.at)} <span className="quiet">{s.note}</span>
            </dd>
          </div>
        ))}
        {x.open.length > 0 && (
          <div className="fact-pair">
            <dt>Waits for</dt>
            <dd className="held">{x.open.join(', ')}</dd>
          </div>
        )}
      </dl>
      {x.trials.length + x.reviews.length > 0 && (
        <section aria-labelledby="h-beside">
          <h2 id="h-beside">Trials and reviews before it</h2>
          <ul className="plain-list">
            {x.trials.map((t) => (
              <li key={t.about}>
                Trials at <b>{t.about}</b>: {t.says}
              </li>
            ))}
            {x.reviews.map((t) => (
              <li key={t.about + t.says}>
                Review of <b>{t.about}</b>: {t.says}
              </li>
            ))}
          </ul>
        </section>
      )}
      {x.expectations.length > 0 && (
        <section aria-labelledby="h-stood">
          <h2 id="h-stood">What was expected then</h2>
          <ul className="plain-list">
            {x.expectations.map((e) => (
              <li key={e.id}>
                <span className={`stands is-${e.state}`}>{e.state}</span> {e.says} <code>{e.id}</code>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section aria-labelledby="h-totals">
        <h2 id="h-totals">Totals</h2>
        <table className="table listing">
          <thead>
            <tr>
              <th scope="col">Action</th>
              <th scope="col">Parties</th>
              <th scope="col">Times</th>
            </tr>
          </thead>
          <tbody>
            {x.totals.map((t) => (
              <tr key={t.action}>
                <td>
                  <code>{t.action}</code>
                </td>
                <td>{t.parties}</td>
                <td>{t.pairs.toLocaleString('en-GB')}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      {signing && (
        <AskDialog title="Sign it off" leave="Cancel" submit="Sign it off" disabled={sign.isPending || password === ''} error={sign.error} close={() => setSigning(false)} onSubmit={() => sign.mutate()}>
          <p>You say that you have looked at this record. It stands in the journal under your name.</p>
          <Form.Group controlId="s-password" className="mb-2">
            <Form.Label>Your password, once more</Form.Label>
            <Form.Control type="password" autoComplete="current-password" required autoFocus value={password} onChange={(e) => setPassword(e.target.value)} />
          </Form.Group>
          <Form.Group controlId="s-note">
            <Form.Label>Note</Form.Label>
            <Form.Control size="sm" maxLength={1000} value={note} onChange={(e) => setNote(e.target.value)} />
          </Form.Group>
        </AskDialog>
      )}
    </Page>
  )
}
