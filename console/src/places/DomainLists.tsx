import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type PlaceEdit } from '../api'
import { Wrong } from '../parts/bits'
import { Chips } from '../parts/Chips'
import { patchOf } from './edit'
import { PlaceDialog } from './PlaceDialog'
import { CloseDialog } from './SpaceForms'

interface DomainList {
  id: string
  name?: string
  domains?: string[]
}

/** Lists of domains that are kept once and used by many meetings. */
export function DomainLists({ edit }: { edit: boolean }) {
  const [asking, setAsking] = useState<{ what: 'change' | 'remove'; x?: DomainList }>()
  const lists = useQuery({
    queryKey: ['domain-lists'],
    queryFn: () => call('GET /api/v1/places/{kind}', { path: { kind: 'domain_list' }, query: { limit: 500 } }),
  })
  const all: DomainList[] = (lists.data?.entries ?? []).map((e) => ({ ...(e.fields as Omit<DomainList, 'id'>), id: e.id }))
  if (!edit && all.length === 0) return null
  return (
    <section aria-labelledby="h-lists" className="mt-4">
      <h2 id="h-lists">Lists of domains for many meetings</h2>
      {lists.error && <Wrong error={lists.error} />}
      <ul className="domains">
        {all.map((x) => (
          <li key={x.id}>
            <span>
              <b>{x.name || x.id}</b> <span className="quiet">{x.domains?.join(', ') || 'empty: nobody comes in by it'}</span>
            </span>
            {edit && (
              <span>
                <Button size="sm" variant="link" onClick={() => setAsking({ what: 'change', x })} aria-label={`Change ${x.name || x.id}`}>
                  Change
                </Button>
                <Button size="sm" variant="link" onClick={() => setAsking({ what: 'remove', x })} aria-label={`Remove ${x.name || x.id}`}>
                  Remove
                </Button>
              </span>
            )}
          </li>
        ))}
        {all.length === 0 && <li>None yet. With a list, one change counts for every meeting that uses it.</li>}
      </ul>
      {edit && (
        <Button size="sm" variant="outline-primary" onClick={() => setAsking({ what: 'change' })}>
          New list
        </Button>
      )}
      {asking?.what === 'change' && <ListDialog x={asking.x} close={() => setAsking(undefined)} />}
      {asking?.what === 'remove' && asking.x && (
        <CloseDialog kind="domain_list" id={asking.x.id} name={asking.x.name || asking.x.id} remove close={() => setAsking(undefined)} />
      )}
    </section>
  )
}

function ListDialog({ x, close }: { x?: DomainList; close: () => void }) {
  const was = { name: x?.name ?? '', domains: x?.domains ?? [] }
  const [f, setF] = useState(was)
  const fields = patchOf(x ? was : {}, { ...f, name: f.name.trim() })
  const edit: PlaceEdit = x ? { do: 'set', kind: 'domain_list', id: x.id, fields } : { do: 'add', kind: 'domain_list', fields }
  return (
    <PlaceDialog
      title={x ? <>Change {x.name || x.id}</> : 'New list of domains'}
      submit={x ? 'Change it' : 'Make the list'}
      edits={[edit]}
      ready={f.name.trim() !== '' && Object.keys(fields).length > 0}
      name={f.name.trim()}
      close={close}
    >
      <Form.Group controlId="dl-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control
          size="sm"
          required
          autoFocus={!x}
          maxLength={200}
          value={f.name}
          onChange={(e) => setF({ ...f, name: e.target.value })}
        />
      </Form.Group>
      <Chips label="Domains" kind="domain" values={f.domains} onChange={(domains) => setF({ ...f, domains })} hint="orrin.example" />
    </PlaceDialog>
  )
}
