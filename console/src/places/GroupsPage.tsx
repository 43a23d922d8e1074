import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type PlaceEdit, type Session } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { Chips } from '../parts/Chips'
import { patchOf } from './edit'
import { PlaceDialog } from './PlaceDialog'
import { CloseDialog } from './SpaceForms'

interface Group {
  id: string
  name?: string
  parties?: string[]
  people?: string[]
}

const few = (list: string[]) =>
  list.length ? `${list.slice(0, 4).join(', ')}${list.length > 4 ? ` and ${list.length - 4} more` : ''}` : '–'

/** Groups of our people, and of addresses from outside. */
export function GroupsPage({ session }: { session: Session }) {
  const [q, setQ] = useState('')
  const [asking, setAsking] = useState<{ what: 'change' | 'remove'; g?: Group }>()
  const groups = useInfiniteQuery({
    queryKey: ['groups', q],
    queryFn: ({ pageParam }) => call('GET /api/v1/places/{kind}', { path: { kind: 'group' }, query: { q, cursor: pageParam } }),
    initialPageParam: '',
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (old) => old,
  })
  const list: Group[] =
    groups.data?.pages.flatMap((p) => p.entries).map((e) => ({ ...(e.fields as Omit<Group, 'id'>), id: e.id, people: e.people })) ?? []
  const edit = session.role !== 'auditor'
  return (
    <Page
      title="Groups"
      lead="Groups of our people, for exceptions and members of spaces; and of addresses from outside, for roles that many have."
      tools={
        <>
          <Form.Control
            size="sm"
            type="search"
            aria-label="Find groups"
            placeholder="name or id"
            value={q}
            onChange={(e) => setQ(e.target.value)}
          />
          {edit && (
            <Button size="sm" onClick={() => setAsking({ what: 'change' })}>
              New group
            </Button>
          )}
        </>
      }
    >
      {groups.error && <Wrong error={groups.error} retry={() => void groups.refetch()} />}
      {!groups.data && !groups.error && <Waiting what="Reading groups" />}
      {groups.data && list.length === 0 && (
        <Empty>{q ? `No group matches “${q}”.` : 'There is no group yet. Make the first one with “New group”.'}</Empty>
      )}
      {list.length > 0 && (
        <div className="wide" role="region" aria-label="All groups" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                <th scope="col">Group</th>
                <th scope="col">Our people in it</th>
                <th scope="col">From outside in it</th>
                {edit && <td />}
              </tr>
            </thead>
            <tbody>
              {list.map((g) => (
                <tr key={g.id}>
                  <th scope="row">
                    {g.name || g.id}
                    <code className="sub">{g.id}</code>
                  </th>
                  <td>{few(g.people ?? [])}</td>
                  <td>{few(g.parties ?? [])}</td>
                  {edit && (
                    <td className="row-tools">
                      <Button
                        size="sm"
                        variant="link"
                        onClick={() => setAsking({ what: 'change', g })}
                        aria-label={`Change ${g.name || g.id}`}
                      >
                        Change
                      </Button>
                      <Button
                        size="sm"
                        variant="link"
                        onClick={() => setAsking({ what: 'remove', g })}
                        aria-label={`Remove ${g.name || g.id}`}
                      >
                        Remove
                      </Button>
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {groups.hasNextPage && (
        <Button size="sm" variant="outline-primary" className="more" onClick={() => void groups.fetchNextPage()}>
          More
        </Button>
      )}
      {asking?.what === 'change' && <GroupDialog x={asking.g} close={() => setAsking(undefined)} />}
      {asking?.what === 'remove' && asking.g && (
        <CloseDialog kind="group" id={asking.g.id} name={asking.g.name || asking.g.id} remove close={() => setAsking(undefined)} />
      )}
    </Page>
  )
}

function GroupDialog({ x, close }: { x?: Group; close: () => void }) {
  const was = { name: x?.name ?? '', parties: x?.parties ?? [] }
  const [f, setF] = useState(was)
  const fields = patchOf(x ? was : {}, { ...f, name: f.name.trim() })
  const edit: PlaceEdit = x ? { do: 'set', kind: 'group', id: x.id, fields } : { do: 'add', kind: 'group', fields }
  return (
    <PlaceDialog
      title={x ? <>Change {x.name || x.id}</> : 'New group'}
      submit={x ? 'Change it' : 'Make the group'}
      edits={[edit]}
      ready={f.name.trim() !== '' && Object.keys(fields).length > 0}
      name={f.name.trim()}
      close={close}
    >
      <Form.Group controlId="gp-name" className="mb-2">
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
      <Chips
        label="From outside in it"
        kind="address"
        values={f.parties}
        onChange={(parties) => setF({ ...f, parties })}
        hint="addresses"
      />
    </PlaceDialog>
  )
}
