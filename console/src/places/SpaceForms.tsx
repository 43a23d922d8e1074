import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { call, type PlaceEdit, type SpaceView } from '../api'
import { Chips } from '../parts/Chips'
import { patchOf } from './edit'
import { PlaceDialog } from './PlaceDialog'

const spaceKinds = { team: 'team', site: 'site', course: 'course', report_area: 'report area', drive: 'drive of one person' }
export const itemKinds = ['folder', 'file', 'page', 'channel', 'tasklist', 'report', 'dashboard']

const admits = 'Only these from outside; leave empty for whoever the rules admit'

/** A new space: what it is for, who owns it, who from outside may be in it. */
export function NewSpace({ person, close }: { person?: string; close: () => void }) {
  const navigate = useNavigate()
  const patterns = useQuery({ queryKey: ['patterns'], queryFn: () => call('GET /api/v1/patterns'), staleTime: Infinity })
  const [f, setF] = useState({ name: '', pattern: 'work', kind: 'team' })
  const [owners, setOwners] = useState<string[]>(person ? [person] : [])
  const [parties, setParties] = useState<string[]>([])
  const chosen = patterns.data?.patterns.find((p) => p.name === f.pattern)
  const edit: PlaceEdit = {
    do: 'add',
    kind: 'space',
    ...(f.pattern ? { pattern: f.pattern } : {}),
    fields: { name: f.name.trim(), ...(f.pattern ? {} : { kind: f.kind }), owners, ...(parties.length ? { parties } : {}) },
  }
  return (
    <PlaceDialog
      title="New space"
      submit="Make the space"
      edits={[edit]}
      ready={f.name.trim() !== '' && owners.length > 0}
      name={f.name.trim()}
      close={close}
      done={(x) => navigate(`/spaces/${x.lines[0].id}`, { state: { made: true } })}
    >
      <Form.Group controlId="sp-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control size="sm" required autoFocus maxLength={200} value={f.name} onChange={(e) => setF({ ...f, name: e.target.value })} />
      </Form.Group>
      <fieldset className="choose mb-2">
        <legend>What it is for</legend>
        {(patterns.data?.patterns ?? []).map((p) => (
          <Form.Check
            key={p.name}
            type="radio"
            name="sp-pattern"
            id={`sp-${p.name}`}
            checked={f.pattern === p.name}
            onChange={() => setF({ ...f, pattern: p.name })}
            label={
              <>
                <b>{p.title}.</b> {p.says}
              </>
            }
          />
        ))}
        <Form.Check
          type="radio"
          name="sp-pattern"
          id="sp-empty"
          checked={f.pattern === ''}
          onChange={() => setF({ ...f, pattern: '' })}
          label={
            <>
              <b>Something else.</b> An empty space with the organisation’s defaults.
            </>
          }
        />
      </fieldset>
      {chosen && (
        <details className="mb-2">
          <summary>The {chosen.rules.length} values it sets</summary>
          <ul className="plain-list">
            {chosen.rules.map((r) => (
              <li key={r.rule} className={r.can ? '' : 'gets-no'}>
                <code>{r.rule}</code> {r.value}: {r.sentence} {!r.can && 'Left out: the limit does not allow it.'}
              </li>
            ))}
          </ul>
        </details>
      )}
      {f.pattern === '' && (
        <Form.Group controlId="sp-kind" className="mb-2">
          <Form.Label>Kind</Form.Label>
          <Form.Select size="sm" value={f.kind} onChange={(e) => setF({ ...f, kind: e.target.value })}>
            {Object.entries(spaceKinds).map(([k, v]) => (
              <option key={k} value={k}>
                {v}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
      )}
      <Chips label="Owners" kind="person" values={owners} onChange={setOwners} hint="a person of ours" />
      <Chips label={admits} kind="party" values={parties} onChange={setParties} hint="partner, domain, group or address" />
    </PlaceDialog>
  )
}

/** What to do with a space that was just made. */
export function NewSpaceNext({ x }: { x: SpaceView }) {
  const first = x.items.find((i) => i.kind === 'folder' || i.kind === 'file')
  return (
    <aside className="next-steps" aria-label="What next">
      <b>{x.name} is ready.</b> <Link to={`/invite?into=space%3A${x.id}`}>Invite the first guest</Link>
      {first && (
        <>
          {' '}
          · <Link to={`/links?item=${encodeURIComponent(`${first.kind}:${first.id}`)}`}>Make a link to {first.name}</Link>
        </>
      )}{' '}
      · <Link to={`/audience?resource=${encodeURIComponent(`space:${x.id}`)}`}>See who can reach it</Link>
    </aside>
  )
}

/** What is written of a space. */
export function ChangeSpace({ x, close }: { x: SpaceView; close: () => void }) {
  const ids = (list: { id: string }[]) => list.map((n) => n.id)
  const names = Object.fromEntries([...x.owners, ...x.members].map((n) => [n.id, n.name || n.id]))
  const was = {
    name: x.name,
    owners: ids(x.owners),
    members: ids(x.members),
    parties: x.parties ?? [],
    joinable: x.joinable ? 'yes' : 'no',
    joins_as: x.joins_as ?? 'view',
    house_licence: x.house_licence ? 'yes' : 'no',
  }
  const [f, setF] = useState(was)
  const fields = patchOf(was, f)
  return (
    <PlaceDialog
      title={<>Change {x.name}</>}
      submit="Change it"
      edits={[{ do: 'set', kind: 'space', id: x.id, fields }]}
      ready={Object.keys(fields).length > 0}
      name={x.name}
      close={close}
    >
      <Form.Group controlId="sp-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control size="sm" required maxLength={200} value={f.name} onChange={(e) => setF({ ...f, name: e.target.value })} />
      </Form.Group>
      <Chips
        label="Owners"
        kind="person"
        values={f.owners}
        names={names}
        onChange={(owners) => setF({ ...f, owners })}
        hint="a person of ours"
      />
      <Chips
        label="Members of ours"
        kind="member"
        values={f.members}
        names={names}
        onChange={(members) => setF({ ...f, members })}
        hint="a person or a group"
      />
      <Chips
        label={admits}
        kind="party"
        values={f.parties}
        onChange={(parties) => setF({ ...f, parties })}
        hint="partner, domain, group or address"
      />
      <Form.Check
        id="sp-join"
        label={
          x.kind === 'course' ? 'It may be joined: by our people, and from outside as the rules let' : 'Our people may join by themselves'
        }
        checked={f.joinable === 'yes'}
        onChange={(e) => setF({ ...f, joinable: e.target.checked ? 'yes' : 'no' })}
      />
      {x.kind === 'course' && f.joinable === 'yes' && (
        <Form.Group controlId="sp-joins" className="mb-2">
          <Form.Label>Who joins it from outside gets</Form.Label>
          <Form.Select size="sm" value={f.joins_as} onChange={(e) => setF({ ...f, joins_as: e.target.value as typeof f.joins_as })}>
            <option>view</option>
            <option>contribute</option>
            <option>manage</option>
          </Form.Select>
        </Form.Group>
      )}
      {x.kind === 'report_area' && (
        <Form.Check
          id="sp-house"
          label="It has a licence for every guest"
          checked={f.house_licence === 'yes'}
          onChange={(e) => setF({ ...f, house_licence: e.target.checked ? 'yes' : 'no' })}
        />
      )}
    </PlaceDialog>
  )
}

/** Ends what was given in a space or on an item, at once or on a day; or removes what is closed. */
export function CloseDialog({
  kind,
  id,
  name,
  remove,
  close,
  done,
}: {
  kind: 'space' | 'item' | 'meeting' | 'person' | 'group' | 'domain_list'
  id: string
  name: string
  remove?: boolean
  close: () => void
  done?: () => void
}) {
  const [on, setOn] = useState('')
  const edit: PlaceEdit = remove ? { do: 'remove', kind, id } : { do: 'close', kind, id, ...(on ? { fields: { on } } : {}) }
  return (
    <PlaceDialog
      title={remove ? `Remove ${name}` : `Close ${name}`}
      submit={remove ? 'Remove it' : 'Close it'}
      danger
      edits={[edit]}
      name={name}
      close={close}
      done={done}
    >
      {remove ? (
        <p>It goes, with what is in it. It can be undone from the journal as long as nothing else takes its place.</p>
      ) : (
        <>
          <p>Every role and every link in it ends. What our own people have stays.</p>
          <Form.Group controlId="close-on" className="mb-2">
            <Form.Label>Last day</Form.Label>
            <Form.Control size="sm" type="date" value={on} onChange={(e) => setOn(e.target.value)} />
            <Form.Text>Empty: at once.</Form.Text>
          </Form.Group>
        </>
      )}
    </PlaceDialog>
  )
}
