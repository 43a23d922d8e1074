import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, type Session } from '../api'
import { ExceptionTimes } from '../exceptions/ExceptionTimes'
import { again, Noticed } from '../findings/FindingList'
import { Leaves } from '../guests/Leaves'
import { Away } from '../home/Away'
import { Empty, Page, until, Waiting, Wrong } from '../parts/bits'
import { Item } from './ItemRow'
import { useRefresh } from '../parts/change'
import { ContactDialog, ForwarderDialog, PersonDialog } from './PersonForms'
import { PlaceDialog } from './PlaceDialog'

/** One person of ours. */
export function PersonPage({ session }: { session: Session }) {
  const role = session.role
  const [asking, setAsking] = useState<'change' | 'forwarder' | 'contact'>()
  const [contact, setContact] = useState<{ party: string; what: 'accept' | 'remove' }>()
  const { id = '' } = useParams()
  const refresh = useRefresh()
  const [all, setAll] = useState(false)
  const [leaves, setLeaves] = useState(false)
  const person = useQuery({
    queryKey: ['person', id],
    queryFn: () => call('GET /api/v1/people/{id}', { path: { id } }),
    refetchInterval: (q) => again(q.state.data?.findings_at),
  })
  const remove = useMutation({
    mutationFn: (to: string) => call('DELETE /api/v1/forwarders/{person}/{address}', { path: { person: id, address: to } }),
    onSuccess: () => void refresh(),
  })
  const x = person.data
  if (!x)
    return (
      <Page title={id}>
        {person.error ? <Wrong error={person.error} retry={() => void person.refetch()} /> : <Waiting what="Reading the person" />}
      </Page>
    )
  const rows = all ? x.rules : x.rules.filter((r) => r.layer === 'people' || r.set !== undefined)
  return (
    <Page
      title={x.name}
      lead={
        <>
          {x.address ?? x.id}
          {x.groups.length ? `, in ${x.groups.join(', ')}` : ''}
          {x.roles.length ? `, ${x.roles.join(', ')}` : ''}
          {x.language ? `, reads ${x.language === 'pt' ? 'Portuguese' : x.language === 'en' ? 'English' : x.language}` : ''}.
          {x.left && (
            <b>
              {' '}
              {Date.parse(x.left) <= Date.now() ? 'Left us' : 'Leaves us'} with {until(x.left)}.
            </b>
          )}
        </>
      }
      tools={
        <>
          {role !== 'member' && (
            <Link className="btn btn-sm btn-outline-secondary" to={`/guests?sponsor=${encodeURIComponent(x.id)}`}>
              Guests they sponsor
            </Link>
          )}
          {(role === 'administrator' || role === 'keeper') && (
            <Button size="sm" variant="outline-primary" onClick={() => setAsking('change')}>
              Change
            </Button>
          )}
          {(role === 'administrator' || role === 'keeper') && (
            <Button size="sm" variant="outline-primary" onClick={() => setLeaves(true)}>
              {x.left ? 'Ask a successor' : 'Leaves us'}
            </Button>
          )}
        </>
      }
    >
      {asking === 'change' && <PersonDialog x={x} admin={role === 'administrator'} close={() => setAsking(undefined)} />}
      {asking === 'forwarder' && <ForwarderDialog person={x.id} name={x.name} close={() => setAsking(undefined)} />}
      {asking === 'contact' && <ContactDialog person={x.id} name={x.name} close={() => setAsking(undefined)} />}
      {contact && (
        <PlaceDialog
          title={contact.what === 'accept' ? `${contact.party} has accepted` : `Remove the contact ${contact.party}`}
          submit={contact.what === 'accept' ? 'Note it' : 'Remove it'}
          edits={[
            contact.what === 'accept'
              ? { do: 'set', kind: 'contact', id: `${x.id} and ${contact.party}`, fields: { state: 'accepted' } }
              : { do: 'remove', kind: 'contact', id: `${x.id} and ${contact.party}` },
          ]}
          name={`${x.name} and ${contact.party}`}
          close={() => setContact(undefined)}
        />
      )}
      {leaves && <Leaves person={x.id} name={x.name} close={() => setLeaves(false)} />}
      <div className="partner">
        <div>
          <section aria-labelledby="h-reached">
            <h2 id="h-reached">Who from outside reaches {x.name}</h2>
            <table className="table reached">
              <caption className="quiet">
                Asked for a typical newcomer of every partner, of an unlisted firm and of a private address.
              </caption>
              <tbody>
                {x.reached.map((r) => (
                  <tr key={r.action}>
                    <th scope="row">
                      {r.title}
                      <code className="sub">{r.action}</code>
                    </th>
                    <td className="num">
                      {r.yes.length} of {r.yes.length + r.no}
                    </td>
                    <td>{r.yes.length ? r.yes.join(', ') : 'nobody'}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
          <section aria-labelledby="h-exc">
            <h2 id="h-exc">Exceptions</h2>
            {x.exceptions.length ? <ExceptionTimes list={x.exceptions} /> : <Empty>No exception is about {x.name}.</Empty>}
            {role === 'administrator' && (
              <Link className="btn btn-sm btn-outline-primary" to={`/exceptions?new=1&person=${x.id}`}>
                Make one
              </Link>
            )}
          </section>
          <section aria-labelledby="h-rules">
            <h2 id="h-rules">What counts for {x.name} towards everybody</h2>
            {rows.length > 0 && (
              <table className="table values">
                <tbody>
                  {rows.map((r) => (
                    <tr key={r.rule}>
                      <th scope="row">
                        {r.title}
                        <code className="sub">{r.rule}</code>
                      </th>
                      <td>
                        <b>{r.value}</b> <span className="quiet">by {r.layer}</span>
                        <span className="sub">{r.sentence}</span>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            {rows.length === 0 && <Empty>Nothing is set for {x.name} towards everybody; the organisation&apos;s defaults count.</Empty>}
            <Button size="sm" variant="link" aria-expanded={all} onClick={() => setAll(!all)}>
              {all ? 'Only what an exception sets' : `All ${x.rules.length} rules that an exception may set`}
            </Button>
          </section>
        </div>
        <div>
          <Noticed findings={x.findings} asOf={x.findings_at} />
          {!x.left && <Away person={x.id} name={x.name} session={session} />}
          <section aria-labelledby="h-mail">
            <h2 id="h-mail">Mail that leaves by itself</h2>
            {remove.error && <Wrong error={remove.error} />}
            <ul className="domains">
              {x.forwarders.map((f) => (
                <li key={f.to}>
                  <span>
                    <b>{f.to}</b> <span className={f.allowed ? 'quiet' : 'gets-no'}>{f.allowed ? 'allowed' : '▼ not allowed'}</span>
                    <span className="sub">
                      {f.text} {f.keep_copy ? 'A copy stays.' : 'No copy stays.'} Set by {f.set_by.replace('_', ' ')}.
                    </span>
                  </span>
                  {role !== 'auditor' && (
                    <Button size="sm" variant="link" onClick={() => remove.mutate(f.to)} aria-label={`Remove the forwarder to ${f.to}`}>
                      Remove
                    </Button>
                  )}
                </li>
              ))}
              {x.forwarders.length === 0 && <li>Nothing is forwarded.</li>}
            </ul>
            {role !== 'auditor' && (
              <Button size="sm" variant="outline-primary" onClick={() => setAsking('forwarder')}>
                Forward mail
              </Button>
            )}
          </section>
          <section aria-labelledby="h-contacts">
            <h2 id="h-contacts">Contacts outside</h2>
            <ul className="domains">
              {x.contacts.map((c) => (
                <li key={c.party}>
                  <span>
                    {c.party} <span className="quiet">{c.state}</span>
                  </span>
                  {role !== 'auditor' && (
                    <span>
                      {c.state === 'asked' && (
                        <Button
                          size="sm"
                          variant="link"
                          onClick={() => setContact({ party: c.party, what: 'accept' })}
                          aria-label={`Note that ${c.party} has accepted`}
                        >
                          Accepted
                        </Button>
                      )}
                      <Button
                        size="sm"
                        variant="link"
                        onClick={() => setContact({ party: c.party, what: 'remove' })}
                        aria-label={`Remove the contact ${c.party}`}
                      >
                        Remove
                      </Button>
                    </span>
                  )}
                </li>
              ))}
              {x.contacts.length === 0 && <li>None.</li>}
            </ul>
            {role !== 'auditor' && (
              <Button size="sm" variant="outline-primary" onClick={() => setAsking('contact')}>
                Add a contact
              </Button>
            )}
          </section>
          <section aria-labelledby="h-owns">
            <h2 id="h-owns">Owns</h2>
            <ul className="domains">
              {x.owns.map((s) => (
                <li key={s.id}>
                  <Link to={`/spaces/${s.id}`}>{s.name || s.id}</Link>
                </li>
              ))}
              {x.owns.length === 0 && <li>No space.</li>}
            </ul>
          </section>
          {x.hosts.length > 0 && (
            <section aria-labelledby="h-hosts">
              <h2 id="h-hosts">Hosts</h2>
              <ul className="items">
                {x.hosts.map((m) => (
                  <Item
                    key={m.id}
                    it={{ ...m, kind: 'meeting', private: false, rules: {} }}
                    edit={role === 'administrator' || role === 'member'}
                  />
                ))}
              </ul>
            </section>
          )}
        </div>
      </div>
    </Page>
  )
}
