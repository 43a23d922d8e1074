import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, query, type CouldCut, type CouldWay } from '../api'
import { useTake } from '../drafts/take'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { Combo } from '../parts/Combo'
import { Proposal } from '../parts/Proposal'
import { couldDo } from './words'

/** How somebody outside could come to do something without an administrator or keeper, and what would make it impossible. */
export function CouldPage({ role }: { role: string }) {
  const [params, setParams] = useSearchParams()
  const asked = { subject: params.get('who') ?? '', action: params.get('action') ?? '', resource: params.get('resource') ?? '' }
  const [who, setWho] = useState(asked.subject)
  const [action, setAction] = useState(asked.action)
  const [resource, setResource] = useState(asked.resource)
  const ready = !!(asked.subject && asked.action && asked.resource)
  const way = useQuery({
    queryKey: ['could-way', asked.subject, asked.action, asked.resource],
    queryFn: () => call('POST /api/v1/could/way', { body: asked }),
    enabled: ready,
  })
  const x = way.data
  return (
    <Page
      title="What could come to be"
      lead="The shortest way in which somebody outside could come to do something without any administrator or keeper, and what would make it impossible."
    >
      <Form
        className="audience-form"
        onSubmit={(e) => {
          e.preventDefault()
          setParams({ who: who.trim(), action: action.trim(), resource: resource.trim() })
        }}
      >
        <div className="plain-combo">
          <Combo label="Who" kind="who" value={who} onChange={setWho} placeholder="somebody@ilvane.example" />
        </div>
        <div className="plain-combo">
          <Combo label="Action" kind="action" value={action} onChange={setAction} placeholder="files.open" />
        </div>
        <div className="plain-combo">
          <Combo label="What" kind="resource" value={resource} onChange={setResource} placeholder="folder:loan-valuations" />
        </div>
        <Button size="sm" type="submit">
          Show
        </Button>
      </Form>
      {!ready && (
        <Empty>
          Say who, what they would do, and to what. Or start at what one guest can reach, or who reaches one thing, and choose “What could
          come to be” there.
        </Empty>
      )}
      {way.error && <Wrong error={way.error} />}
      {ready && !x && !way.error && <Waiting what="Looking for the shortest way" />}
      {x && <Way x={x} />}
      {x && x.decision !== 'no' && <Cuts asked={asked} role={role} />}
    </Page>
  )
}

/** The picture of a way: each step a knot on the line, the last one what they could do. */
function Way({ x }: { x: CouldWay }) {
  const name =
    x.name ||
    (x.subject === 'link:any'
      ? 'Whoever holds a link that somebody makes'
      : x.subject.startsWith('*@')
        ? `Somebody new at ${x.subject.slice(2)}`
        : x.subject)
  const does = `${x.title ?? x.action}: ${x.resource_name || x.resource}`
  if (x.decision === 'no') {
    return (
      <section aria-labelledby="h-way">
        <h2 id="h-way">It could not come to be</h2>
        <p>
          Without an administrator or keeper, {name} cannot come to {does}, whatever owners, members and guests do.{' '}
          <Link to={`/ask${query({ who: x.subject, action: x.action, resource: x.resource })}`}>See what refuses it</Link>
        </p>
      </section>
    )
  }
  if (x.decision === 'yes') {
    return (
      <section aria-labelledby="h-way">
        <h2 id="h-way">It is so now</h2>
        <p>
          {name} may {does}. <Link to={`/ask${query({ who: x.subject, action: x.action, resource: x.resource })}`}>See why</Link>
        </p>
      </section>
    )
  }
  return (
    <section aria-labelledby="h-way">
      <h2 id="h-way">
        {x.longer
          ? 'It could come to be, by more than six steps'
          : x.acts.length === 1
            ? 'It takes one step'
            : `It takes ${x.acts.length} steps`}
      </h2>
      <ol className="way-line">
        {x.acts.map((a, i) => (
          <li key={a.text} className={a.by.includes('@') ? 'is-outside' : ''}>
            <span className="knot" aria-hidden="true">
              {i + 1}
            </span>
            <span className="way-who">{a.by_name}</span>
            <span>{a.text.startsWith(`${a.by_name} `) ? a.text.slice(a.by_name.length + 1) : a.text}</span>
            <span className="quiet">{couldDo(a.count, a.by.includes('@'))}</span>
          </li>
        ))}
        <li className="is-end">
          <span className="knot" aria-hidden="true">
            ▲
          </span>
          <span className="way-who">{name}</span>
          <span>may {does}</span>
        </li>
      </ol>
    </section>
  )
}

const many = (n: number, one: string, more: string) => (n === 1 ? `1 ${one}` : `${n.toLocaleString('en-GB')} ${more}`)

function takes(c: CouldCut): string {
  const what = [
    c.lost && many(c.lost, 'granted action', 'granted actions'),
    c.wide && many(c.wide, 'action that needs no role', 'actions that need no role'),
  ]
    .filter(Boolean)
    .join(' and ')
  const parts = [
    c.parties && `${many(c.parties, 'known guest or other', 'known guests and others')} would lose ${what || 'something'}`,
    c.newcomers && `${many(c.newcomers, 'kind of newcomer', 'kinds of newcomers')} would lose something`,
    c.links && `${many(c.links, 'link', 'links')} would stop`,
    c.outward && `our people would lose ${many(c.outward, 'thing', 'things')} that they do elsewhere`,
  ].filter(Boolean)
  return parts.length ? `Today ${parts.join('; ')}.` : 'Today nobody would lose anything.'
}

/** Sets of changes after which it can no longer come to be. */
function Cuts({ asked, role }: { asked: { subject: string; action: string; resource: string }; role: string }) {
  const cuts = useQuery({
    queryKey: ['could-cuts', asked.subject, asked.action, asked.resource],
    queryFn: () => call('POST /api/v1/could/cuts', { body: asked }),
  })
  const take = useTake('POST /api/v1/could/cuts/draft', (cut: string) => ({ question: asked, cut }))
  const may = role === 'administrator' || role === 'keeper'
  const x = cuts.data
  return (
    <section className="remedies" aria-labelledby="h-cuts">
      <h2 id="h-cuts">What would make it impossible</h2>
      <p className="quiet">Weighed is what outsiders may do today. Whom our people may invite or share with from then on is not counted.</p>
      {cuts.error && <Wrong error={cuts.error} retry={() => void cuts.refetch()} />}
      {take.error && <Wrong error={take.error} />}
      {!x && !cuts.error && <Waiting what="Trying limits, openings and roles" />}
      {x && x.cuts.length === 0 && <Empty>No change of up to three limits, openings or roles does.</Empty>}
      {x && (
        <ol>
          {x.cuts.map((c, i) => (
            <Proposal
              key={c.id}
              n={i + 1}
              changes={c.parts.map((p) => ({
                text: p.text,
                beside: p.policy ? undefined : <span className="quiet">done at the person</span>,
              }))}
              weighs={<p className="remedy-opens">{takes(c)}</p>}
              take={may && c.parts.some((p) => p.policy) ? () => take.mutate(c.id) : undefined}
              waits={take.isPending}
            />
          ))}
        </ol>
      )}
      {x?.more && <p className="quiet">There may be others: the search ended before everything was tried.</p>}
    </section>
  )
}
