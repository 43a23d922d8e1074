import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Alert, Button, Form } from 'react-bootstrap'
import { useParams } from 'react-router'
import { call, linked, failed } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Page, Waiting, when, Wrong } from '../parts/bits'

/** One record: what it states, whether it is as it was signed, and signing it off. */
export function RecordPage({ name }: { name: string }) {
  const { id = '' } = useParams()
  const client = useQueryClient()
  const found = useQuery({ queryKey: ['evidence', id], queryFn: () => call('GET /api/v1/evidence/{id}', { path: { id } }) })
  const verify = useMutation({ mutationFn: () => call('GET /api/v1/evidence/{id}/verification', { path: { id } }) })
  const [signing, setSigning] = useState(false)
  const [password, setPassword] = useState('')
  const [note, setNote] = useState('')
  const sign = useMutation({
    mutationFn: () => call('POST /api/v1/evidence/{id}/sign-off', { path: { id }, body: { password, ...(note.trim() ? { note } : {}) } }),
    onSuccess: (x) => {
      client.setQueryData(['evidence', id], x)
      void client.invalidateQueries({ queryKey: ['evidence'], exact: true })
      setSigning(false)
    },
  })
  const x = found.data
  if (failed(found))
    return (
      <Page title="Record">
        <Wrong error={found.error} retry={() => void found.refetch()} />
      </Page>
    )
  if (!x) return <Waiting what="Reading the record" />
  const mine = x.signed_off.some((s) => s.by === name)
  return (
    <Page
      title={x.says}
      lead={`As of ${when(x.at)}: ${x.why}`}
      tools={
        <>
          <a
            className="btn btn-sm btn-outline-primary"
            href={linked('GET /api/v1/evidence/{id}/sheet', { path: { id } })}
            target="_blank"
            rel="noreferrer"
          >
            The sheet
          </a>
          <a
            className="btn btn-sm btn-outline-primary"
            href={linked('GET /api/v1/evidence/{id}/sheet', { path: { id }, query: { form: 'pdf' } })}
            download={`record-${x.id}.pdf`}
          >
            As PDF
          </a>
          <a className="btn btn-sm btn-outline-primary" href={linked('GET /api/v1/evidence/{id}/archive', { path: { id } })} download>
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
            [
              'Reach anything',
              `${x.parties} known ${x.parties === 1 ? 'party or link' : 'parties and links'}, ${x.newcomers} typical ${x.newcomers === 1 ? 'newcomer' : 'newcomers'}`,
            ],
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
        <AskDialog
          title="Sign it off"
          leave="Cancel"
          submit="Sign it off"
          disabled={sign.isPending || password === ''}
          error={sign.error}
          close={() => setSigning(false)}
          onSubmit={() => sign.mutate()}
        >
          <p>You say that you have looked at this record. It stands in the journal under your name.</p>
          <Form.Group controlId="s-password" className="mb-2">
            <Form.Label>Your password, once more</Form.Label>
            <Form.Control
              type="password"
              autoComplete="current-password"
              required
              autoFocus
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
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
