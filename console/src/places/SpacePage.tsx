import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useLocation, useNavigate, useParams } from 'react-router'
import { call, type GivenRole, type Session } from '../api'
import { again, Noticed } from '../findings/FindingList'
import { Empty, Page, until, Waiting, Wrong } from '../parts/bits'
import { ChangeRole, EndRole, GiveRole } from './GrantForms'
import { MeetingDialog } from './MeetingForms'
import { ChangeSpace, CloseDialog, NewSpaceNext } from './SpaceForms'
import { NewItem } from './ItemForms'
import { ValueTable } from './ValueTable'
import { WouldForm } from './WouldForm'
import { Item } from './ItemRow'

/** One space: its rules, what is in it, who from outside has what. */
export function SpacePage({ session }: { session: Session }) {
  const { id = '' } = useParams()
  const navigate = useNavigate()
  const role = session.role
  const made = (useLocation().state as { made?: boolean } | null)?.made
  const [asking, setAsking] = useState<'change' | 'item' | 'role' | 'close' | 'remove' | 'meeting'>()
  const done = () => setAsking(undefined)
  const space = useQuery({
    queryKey: ['space', id],
    queryFn: () => call('GET /api/v1/spaces/{id}', { path: { id } }),
    refetchInterval: (q) => again(q.state.data?.findings_at),
  })
  const x = space.data
  if (!x)
    return (
      <Page title={id}>
        {space.error ? <Wrong error={space.error} retry={() => void space.refetch()} /> : <Waiting what="Reading the space" />}
      </Page>
    )
  const names = (list: { id: string; name: string }[], to?: string) =>
    list.length === 0
      ? 'nobody'
      : list.map((n, i) => (
          <span key={n.id}>
            {i > 0 ? ', ' : ''}
            {to && !n.id.startsWith('group:') ? <Link to={`${to}/${n.id}`}>{n.name || n.id}</Link> : n.name || n.id}
          </span>
        ))
  const people = role === 'member' ? undefined : '/people'
  const keeps = role === 'administrator' || role === 'keeper'
  const edits = role !== 'auditor' // what is not theirs they ask for
  return (
    <Page
      title={x.name}
      lead={
        <>
          <code>{x.id}</code>, {x.kind.replace('_', ' ')}
          {x.joinable ? (
            x.joins_as ? (
              <>
                , may be joined from outside at <code>/door?join={x.id}</code> (they get {x.joins_as})
              </>
            ) : (
              ', may be joined'
            )
          ) : (
            ''
          )}
          {x.house_licence ? ', with a licence of its own' : ''}.
        </>
      }
      tools={
        role !== 'auditor' && (
          <>
            <Link className="btn btn-sm btn-outline-primary" to={`/guests?space=${x.id}`}>
              Its guests
            </Link>
            {edits && (
              <Button size="sm" variant="outline-primary" onClick={() => setAsking('change')}>
                Change
              </Button>
            )}
            {edits && (
              <Button size="sm" variant="outline-danger" onClick={() => setAsking('close')}>
                Close
              </Button>
            )}
            {keeps && x.given.every((g) => g.state === 'over') && (
              <Button size="sm" variant="outline-danger" onClick={() => setAsking('remove')}>
                Remove
              </Button>
            )}
            <Link className="btn btn-sm btn-primary" to={`/invite?into=space%3A${x.id}`}>
              Invite
            </Link>
          </>
        )
      }
    >
      {made && <NewSpaceNext x={x} />}
      <div className="partner">
        <div>
          <section aria-labelledby="h-values">
            <h2 id="h-values">Rules here</h2>
            <ValueTable values={x.values} edit={x.editable} ask={edits} />
          </section>
          <section aria-labelledby="h-given">
            <h2 id="h-given">Who from outside has a role here</h2>
            <Given list={x.given} edit={edits} />
            {edits && (
              <Button size="sm" variant="outline-primary" onClick={() => setAsking('role')}>
                Give a role
              </Button>
            )}
          </section>
        </div>
        <div>
          <Noticed findings={x.findings} asOf={x.findings_at} />
          <section aria-labelledby="h-facts">
            <h2 id="h-facts">The space</h2>
            <dl className="facts">
              <dt>Owners</dt>
              <dd>{names(x.owners, people)}</dd>
              <dt>Members</dt>
              <dd>{names(x.members, people)}</dd>
              <dt>Admits</dt>
              <dd>{x.parties ? `only ${x.parties.join(', ')}` : 'whoever the rules admit'}</dd>
            </dl>
          </section>
          <section aria-labelledby="h-items">
            <h2 id="h-items">In it</h2>
            <ul className="items">
              {x.items.map((it) => (
                <Item key={it.id} it={it} edit={x.editable} space={edits ? x.id : undefined} />
              ))}
              {x.meetings.map((m) => (
                <Item key={m.id} it={{ ...m, kind: 'meeting', private: false, rules: {} }} edit={x.editable} />
              ))}
              {x.items.length + x.meetings.length === 0 && <li>Nothing yet.</li>}
            </ul>
            {edits && (
              <div className="inline-form">
                <Button size="sm" variant="outline-primary" onClick={() => setAsking('item')}>
                  New item
                </Button>
                <Button size="sm" variant="outline-primary" onClick={() => setAsking('meeting')}>
                  New meeting
                </Button>
              </div>
            )}
          </section>
          <WouldForm space={x.id} />
        </div>
      </div>
      {asking === 'change' && <ChangeSpace x={x} close={done} />}
      {asking === 'item' && <NewItem space={x.id} close={done} />}
      {asking === 'meeting' && <MeetingDialog space={x.id} person={session.person} close={done} />}
      {asking === 'role' && <GiveRole resource={`space:${x.id}`} close={done} />}
      {asking === 'close' && <CloseDialog kind="space" id={x.id} name={x.name} close={done} />}
      {asking === 'remove' && <CloseDialog kind="space" id={x.id} name={x.name} remove close={done} done={() => navigate('/spaces')} />}
    </Page>
  )
}

function Given({ list, edit }: { list: GivenRole[]; edit: boolean }) {
  const [asking, setAsking] = useState<{ what: 'change' | 'end'; g: GivenRole }>()
  const [over, setOver] = useState(false)
  const [n, setN] = useState(25)
  const rank = { live: 0, ahead: 1, over: 2 }
  const shown = list.filter((g) => over || g.state !== 'over').sort((a, b) => rank[a.state] - rank[b.state])
  const gone = list.length - list.filter((g) => g.state !== 'over').length
  if (list.length === 0) return <Empty>Nobody from outside was given anything here.</Empty>
  return (
    <>
      <div className="wide" role="region" aria-label="Roles given" tabIndex={0}>
        <table className="table listing">
          <thead>
            <tr>
              <th scope="col">Party</th>
              <th scope="col">On</th>
              <th scope="col">Role</th>
              <th scope="col">Until</th>
              <th scope="col">Gets in now</th>
              {edit && <td />}
            </tr>
          </thead>
          <tbody>
            {shown.slice(0, n).map((g, i) => (
              <tr key={g.party + g.resource + g.role + i}>
                <th scope="row">
                  {g.name && !g.party.startsWith('group:') ? g.name : g.party.replace('group:', 'group ')}
                  {g.name && <span className="sub">{g.party}</span>}
                </th>
                <td>{g.resource}</td>
                <td>
                  {g.role}
                  {g.link ? <span className="sub">by link {g.link}</span> : ''}
                </td>
                <td>{g.until ? until(g.until) : 'no end'}</td>
                <td className={g.decision === 'no' ? 'gets-no' : ''}>
                  {g.decision === 'none' ? '–' : g.decision === 'yes' ? '▲ yes' : '▼ no'}
                  {g.decision === 'no' && <span className="sub">{g.text}</span>}
                </td>
                {edit && (
                  <td className="row-tools">
                    {!g.link && g.state !== 'over' && (
                      <>
                        <Button
                          size="sm"
                          variant="link"
                          onClick={() => setAsking({ what: 'change', g })}
                          aria-label={`Change the role of ${g.name || g.party}`}
                        >
                          Change
                        </Button>
                        <Button
                          size="sm"
                          variant="link"
                          onClick={() => setAsking({ what: 'end', g })}
                          aria-label={`End the role of ${g.name || g.party}`}
                        >
                          End
                        </Button>
                      </>
                    )}
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {asking?.what === 'change' && <ChangeRole g={asking.g} close={() => setAsking(undefined)} />}
      {asking?.what === 'end' && <EndRole g={asking.g} close={() => setAsking(undefined)} />}
      {shown.length > n && (
        <Button size="sm" variant="link" onClick={() => setN(n + 100)}>
          {shown.length - n} more
        </Button>
      )}
      {gone > 0 && (
        <Button size="sm" variant="link" aria-expanded={over} onClick={() => setOver(!over)}>
          {over ? 'Without those that are over' : `${gone} that are over`}
        </Button>
      )}
    </>
  )
}
