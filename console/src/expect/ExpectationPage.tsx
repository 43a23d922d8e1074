import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate, useParams } from 'react-router'
import { call, failed } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Page, Waiting, when, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { MakeExpectation } from './MakeExpectation'
import { ahead, Counterexamples, Stands } from './words'

/** One expectation: who breaks it, since when and through what, and what became of it before. */
export function ExpectationPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const refresh = useRefresh()
  const navigate = useNavigate()
  const found = useQuery({ queryKey: ['expectations', id], queryFn: () => call('GET /api/v1/expectations/{id}', { path: { id } }) })
  const [changing, setChanging] = useState(false)
  const [ending, setEnding] = useState(false)
  const [why, setWhy] = useState('')
  const remove = useMutation({
    mutationFn: () => call('DELETE /api/v1/expectations/{id}', { path: { id }, query: { why } }),
    onSuccess: () => {
      void refresh()
      navigate('/expectations')
    },
  })
  const x = found.data
  if (failed(found))
    return (
      <Page title="Expectation">
        <Wrong error={found.error} retry={() => void found.refetch()} />
      </Page>
    )
  if (!x) return <Waiting what="Judging" />
  const may = role === 'administrator' || role === 'keeper'
  return (
    <Page
      title={x.says}
      lead={x.reason ?? ''}
      tools={
        may ? (
          <>
            <Button size="sm" variant="outline-primary" onClick={() => setChanging(true)}>
              Change
            </Button>
            <Button size="sm" variant="outline-danger" onClick={() => setEnding(true)}>
              Expect it no longer
            </Button>
          </>
        ) : undefined
      }
    >
      <dl className="facts">
        <div className="fact-pair">
          <dt>It stands</dt>
          <dd>
            <Stands x={x} />
            {x.since && <span className="quiet"> since {when(x.since)}</span>}
          </dd>
        </div>
        {x.broken_by && (
          <div className="fact-pair">
            <dt>{ahead(x) ? 'Will be broken by' : 'Broken by'}</dt>
            <dd>{x.broken_by.revision ? <Link to={`/revisions/${x.broken_by.revision}`}>{x.broken_by.text}</Link> : x.broken_by.text}</dd>
          </div>
        )}
        {x.unknown && (
          <div className="fact-pair">
            <dt>Unknown</dt>
            <dd>{x.unknown}</dd>
          </div>
        )}
        <div className="fact-pair">
          <dt>May now</dt>
          <dd>
            {x.may} known {x.may === 1 ? 'party' : 'parties'}
          </dd>
        </div>
        <div className="fact-pair">
          <dt>Answers for it</dt>
          <dd>
            {x.owner ? <Link to={`/people/${x.owner}`}>{x.owner}</Link> : 'the administrators'}
            {x.tell && <span className="quiet">, who hears of every change</span>}
          </dd>
        </div>
        <div className="fact-pair">
          <dt>Known as</dt>
          <dd>
            <code>{x.id}</code>
          </dd>
        </div>
      </dl>
      {x.examples.length > 0 && (
        <section aria-labelledby="h-who">
          <h2 id="h-who">
            {x.only_could
              ? `It could come to be broken ${x.count} ${x.count === 1 ? 'time' : 'times'} by ${x.parties} ${x.parties === 1 ? 'guest or other' : 'guests and others'}`
              : x.expect.sort === 'at_most'
                ? `${x.count} who may`
                : `Broken ${x.count} ${x.count === 1 ? 'time' : 'times'} by ${x.parties} ${x.parties === 1 ? 'party' : 'parties'}`}
            {x.examples.length < (x.count ?? 0) && <span className="quiet"> · the first {x.examples.length}</span>}
          </h2>
          <Counterexamples of={x} />
        </section>
      )}
      {(x.history?.length ?? 0) > 0 && (
        <section aria-labelledby="h-past">
          <h2 id="h-past">History</h2>
          <ol className="expect-past">
            {x.history!.map((h) => (
              <li key={h.change ?? h.at} className={`is-${h.state}`}>
                <span className="quiet">{when(h.at)}</span> <Stands x={{ ...x, state: h.state, from: undefined, empty: undefined }} />{' '}
                {h.state === 'broken' && h.count ? `${h.count} times. ` : ''}
                {h.text}
              </li>
            ))}
          </ol>
        </section>
      )}
      {changing && <MakeExpectation x={x} close={() => setChanging(false)} done={() => void refresh()} />}
      {ending && (
        <AskDialog
          policy
          danger
          title="Expect it no longer?"
          leave="Keep it"
          submit="Expect it no longer"
          disabled={remove.isPending || why.trim() === ''}
          error={remove.error}
          close={() => setEnding(false)}
          onSubmit={() => remove.mutate()}
        >
          <p>{x.says} Nobody is told any longer when this is not so. Its history stays in the journal.</p>
          <Form.Group controlId="x-why">
            <Form.Label>Why</Form.Label>
            <Form.Control value={why} required maxLength={1000} autoFocus onChange={(e) => setWhy(e.target.value)} />
          </Form.Group>
        </AskDialog>
      )}
    </Page>
  )
}
