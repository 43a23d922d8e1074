import { useQuery } from '@tanstack/react-query'
import { Form } from 'react-bootstrap'
import { useParams, useSearchParams } from 'react-router'
import { call } from '../api'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { EditList } from './EditList'

/** What a revision changed, against the one before or any other. */
export function RevisionPage() {
  const { number = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const against = params.get('against') ?? ''
  const found = useQuery({
    queryKey: ['revision', number, against],
    queryFn: () => call('GET /api/v1/revisions/{number}', { path: { number: Number(number) }, query: { against: Number(against) } }),
  })
  const x = found.data
  return (
    <Page
      title={`Revision ${number}`}
      lead={x?.revision && `Published ${when(x.revision.at)} by ${x.revision.who}: ${x.revision.why}`}
      tools={
        <Form.Group controlId="against" className="inline-form">
          <Form.Label className="m-0">against revision</Form.Label>
          <Form.Control
            size="sm"
            type="number"
            min={0}
            value={against || String(x?.against ?? '')}
            onChange={(e) => setParams(e.target.value ? { against: e.target.value } : {})}
            style={{ width: '6rem' }}
          />
        </Form.Group>
      }
    >
      {found.error && <Wrong error={found.error} />}
      {found.isLoading && <Waiting what="Comparing" />}
      {x && x.edits.length === 0 && <Empty>They are the same.</Empty>}
      {x && <EditList edits={x.edits} />}
    </Page>
  )
}
