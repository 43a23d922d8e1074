import { useMutation, useQuery } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { call, type Session, type Started } from '../api'
import { Page, Waiting, Wrong } from '../parts/bits'
import { useChange } from '../parts/change'
import { NewSpace } from '../places/SpaceForms'
import { OrganisationForm } from './OrganisationForm'
import { Postures } from './Postures'
import { TakeFile } from './TakeFile'

const count = (n: number, one: string, many = `${one}s`) => `${n} ${n === 1 ? one : many}`

/** The beginning of an installation: what is done, and what comes next. It can be left and taken up. */
export function StartPage({ session }: { session: Session }) {
  const started = useQuery({ queryKey: ['start'], queryFn: () => call('GET /api/v1/start') })
  const [making, setMaking] = useState(false)
  const x = started.data
  if (!x)
    return (
      <Page title="Begin">
        {started.error ? <Wrong error={started.error} retry={() => void started.refetch()} /> : <Waiting what="Looking how far you are" />}
      </Page>
    )
  const has = x.people + x.guests + x.spaces > 0
  const steps: { title: string; done: boolean; body: ReactNode }[] = [
    {
      title: x.organisation ? `Your organisation: ${x.organisation}` : 'Your organisation and its domains',
      done: Boolean(x.organisation),
      body: x.organisation ? <Link to="/settings">Change it in the settings</Link> : <OrganisationForm first />,
    },
    {
      title: has
        ? `What there is: ${count(x.people, 'person', 'people')}, ${count(x.guests, 'guest')}, ${count(x.spaces, 'space')}`
        : 'What there is',
      done: has,
      body: x.organisation ? (
        <>
          <p>Take in what you have, in any order. You see what each line would change before anything is written.</p>
          <p className="start-ways">
            <Link className="btn btn-sm btn-outline-primary" to="/lists?what=people">
              People from a list
            </Link>
            <Link className="btn btn-sm btn-outline-primary" to="/lists?what=spaces">
              Spaces from a list
            </Link>
            <Link className="btn btn-sm btn-outline-primary" to="/lists?what=guests">
              Guests from a list
            </Link>
            <Link className="btn btn-sm btn-outline-primary" to="/lists?what=grants">
              Roles from a list
            </Link>
            <Link className="btn btn-sm btn-outline-primary" to="/people">
              A person by hand
            </Link>
            <Button size="sm" variant="outline-primary" onClick={() => setMaking(true)}>
              A space by hand
            </Button>
          </p>
          <TakeFile />
        </>
      ) : (
        <p className="quiet">Say first who you are.</p>
      ),
    },
    {
      title: x.partners > 0 ? `Partners: ${x.partners}` : 'Partners',
      done: x.partners > 0,
      body: <Domains x={x} />,
    },
    {
      title: x.posture ? 'How open you are to begin with' : 'How open do you want to be to begin with?',
      done: Boolean(x.posture),
      body: <Postures />,
    },
    {
      title: 'What would be mailed and carried out',
      done: false,
      body: (
        <p>
          {x.dates_wait > 0
            ? `The dates of ${count(x.dates_wait, 'record')} wait, and nothing of them is carried out. `
            : 'Nothing waits to be carried out. '}
          {x.mail > 0
            ? `${count(x.mail, 'message')} ${x.mail === 1 ? 'waits' : 'wait'} to be sent: name a mail server when you start the service. `
            : 'No mail waits. '}
          {x.dates_wait > 0 && <Link to="/">See what the dates would set going, and release them</Link>}
        </p>
      ),
    },
    {
      title: 'Your first question',
      done: false,
      body: (
        <p>
          Put it into the bar above: who, may do what, to which. For a typical newcomer write <code>*@domain</code>. Or{' '}
          <Link to="/spaces">make a place for outsiders</Link> and invite the first.
        </p>
      ),
    },
  ]
  const open = steps.findIndex((s) => !s.done)
  return (
    <Page
      title="Begin"
      lead="Six steps to an installation that answers. You can leave at any time; nothing is mailed or carried out before you say so."
    >
      <ol className="start-steps">
        {steps.map((s, i) => (
          <li key={i} className={s.done ? 'is-done' : ''}>
            <details open={i === open || (!s.done && i > open && x.organisation !== undefined)}>
              <summary>
                <span className="start-mark" aria-hidden="true">
                  {s.done ? '✓' : i + 1}
                </span>
                <h2>{s.title}</h2>
                <span className="visually-hidden">{s.done ? ', done' : ''}</span>
              </summary>
              <div className="start-body">{s.body}</div>
            </details>
          </li>
        ))}
      </ol>
      {making && <NewSpace person={session.person} close={() => setMaking(false)} />}
    </Page>
  )
}

/** Partners from the domains at which guests are. */
function Domains({ x }: { x: Started }) {
  const navigate = useNavigate()
  const [name, setName] = useState<Record<string, string>>({})
  const add = useChange((d: string) =>
    call('POST /api/v1/partners', {
      body: {
        id: d.split('.')[0].replace(/[^a-z0-9-]/g, '-'),
        name: name[d]?.trim() || d,
        domains: [{ name: d }],
        why: 'its people are guests already',
      },
    }),
  )
  if (x.domains.length === 0)
    return (
      <p>
        {x.partners > 0
          ? 'Every guest belongs to a partner, or to nobody’s domain. '
          : 'No guest is at a domain yet that could be a partner’s. '}
        <Button size="sm" variant="outline-primary" onClick={() => navigate('/partners?add=1')}>
          Add a partner
        </Button>
      </p>
    )
  return (
    <>
      <p>Guests are at these domains, which are no partner’s. Listed partners can be opened service by service.</p>
      {add.error && <Wrong error={add.error} />}
      <ul className="domains">
        {x.domains.map((d) => (
          <li key={d.domain}>
            <span>
              <b>{d.domain}</b> <span className="quiet">{d.guests === 1 ? '1 guest' : `${d.guests} guests`}</span>
            </span>
            <span className="inline-form">
              <Form.Control
                size="sm"
                aria-label={`Name of ${d.domain}`}
                placeholder="its name"
                value={name[d.domain] ?? ''}
                onChange={(e) => setName({ ...name, [d.domain]: e.target.value })}
              />
              <Button
                size="sm"
                variant="outline-primary"
                disabled={add.isPending}
                onClick={() => add.mutate(d.domain)}
                aria-label={`Make a partner of ${d.domain}`}
              >
                Make a partner
              </Button>
            </span>
          </li>
        ))}
      </ul>
    </>
  )
}

/** Says on the first page that the beginning is not done. */
export function StartBanner() {
  const started = useQuery({ queryKey: ['start'], queryFn: () => call('GET /api/v1/start') })
  const hide = useMutation({ mutationFn: () => Promise.resolve(localStorage.setItem('wexillum.begun', '1')) })
  const x = started.data
  if (!x || (x.organisation && x.people + x.guests + x.spaces > 0) || hide.isSuccess) return null
  return (
    <aside className="next-steps" aria-label="Begin">
      <b>{x.organisation ? 'Nothing is here yet.' : 'This installation is new.'}</b> <Link to="/start">Go on with the beginning</Link>
    </aside>
  )
}
