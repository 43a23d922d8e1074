import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useSearchParams } from 'react-router'
import { call, type Exception } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { ExceptionTimes } from './ExceptionTimes'
import { useRefresh } from '../parts/change'
import { Make } from './MakeException'
import { Ending, List } from './ChangeExceptions'

export function ExceptionsPage({ role }: { role: string }) {
  const refresh = useRefresh()
  const [params, setParams] = useSearchParams()
  const [state, setState] = useState<'' | 'ahead' | 'in_force' | 'over'>('')
  const [asking, setAsking] = useState<{ x: Exception; what: 'end' | 'prolong' } | null>(null)
  const [listing, setListing] = useState(false)
  const list = useQuery({
    queryKey: ['exceptions', state],
    queryFn: () => call('GET /api/v1/exceptions', { query: { state: state || undefined } }),
    placeholderData: (old) => old,
  })
  const edit = role === 'administrator'
  const done = () => refresh()
  const xs = list.data?.exceptions ?? []
  return (
    <Page
      title="Exceptions"
      lead="Values for named people or groups, usually with an end date. An exception may be looser or tighter than the default, but never looser than the limit."
      tools={
        <>
          <Form.Select size="sm" aria-label="Show" value={state} onChange={(e) => setState(e.target.value as typeof state)}>
            <option value="">All</option>
            <option value="in_force">In force</option>
            <option value="ahead">Ahead</option>
            <option value="over">Over</option>
          </Form.Select>
          {edit && (
            <Button size="sm" variant="outline-primary" onClick={() => setListing(true)}>
              From a list
            </Button>
          )}
          {edit && (
            <Button size="sm" onClick={() => setParams({ new: '1' })}>
              Make one
            </Button>
          )}
        </>
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading exceptions" />}
      {list.data && xs.length === 0 && (
        <Empty>
          {state ? 'No exception is like that.' : 'There is no exception. Make one where a single person needs what nobody else does.'}
        </Empty>
      )}
      {xs.length > 0 && (
        <ExceptionTimes
          list={xs}
          tools={
            edit
              ? (x) =>
                  x.state !== 'over' && (
                    <p className="time-tools">
                      {x.until && (
                        <Button size="sm" variant="link" onClick={() => setAsking({ x, what: 'prolong' })} aria-label={`Prolong ${x.id}`}>
                          Prolong
                        </Button>
                      )}
                      <Button size="sm" variant="link" onClick={() => setAsking({ x, what: 'end' })} aria-label={`End now: ${x.id}`}>
                        End now
                      </Button>
                    </p>
                  )
              : undefined
          }
        />
      )}
      {params.get('new') && edit && (
        <Make person={params.get('person') ?? ''} close={() => setParams({}, { replace: true })} done={() => void done()} />
      )}
      {asking && <Ending {...asking} close={() => setAsking(null)} done={() => void done()} />}
      {listing && <List close={() => setListing(false)} done={() => void done()} />}
    </Page>
  )
}
