import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams, useSearchParams } from 'react-router'
import { call, type ConnectStep } from '../api'
import { questionPath } from '../ask/path'
import { BeginFeed } from '../feeds/FeedsPage'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { Chips } from '../parts/Chips'
import { useChange } from '../parts/change'
import { PlaceDialog } from '../places/PlaceDialog'
import { mayKeep } from './PartnersPage'

const ways: Record<string, [string, string]> = {
  federation: ['Federation', 'Talk with the account each has at home, without a record here.'],
  membership: ['Membership with the home account', 'Everybody of theirs works in a space with the account they have at home.'],
  feed: ['A people feed', 'Their own system keeps their people here.'],
}

/** Connects a partner's people for good, in one way: what is left to do, each a click away, and what becomes of those who are here. */
export function ConnectPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const way = params.get('way') ?? 'membership'
  const spaces = params.getAll('space')
  const as = params.get('role') ?? 'view'
  const plan = useQuery({
    queryKey: ['connect', id, way, spaces, as],
    queryFn: () => call('GET /api/v1/partners/{id}/connect', { path: { id }, query: { way, role: as, space: spaces } }),
    placeholderData: (was) => was,
  })
  const choose = (next: { way?: string; space?: string[]; role?: string }) => {
    const p = new URLSearchParams({ way: next.way ?? way, role: next.role ?? as })
    for (const s of next.space ?? spaces) p.append('space', s)
    setParams(p, { replace: true })
  }
  const x = plan.data
  return (
    <Page
      title={`Connect ${x?.name ?? id} for good`}
      lead={
        <>
          Instead of inviting many one by one. {ways[way]?.[1]} <Link to={`/partners/${id}`}>The partner</Link>
        </>
      }
    >
      <div className="inline-form mb-3" role="radiogroup" aria-label="Way">
        {Object.entries(ways).map(([name, [title]]) => (
          <Form.Check
            key={name}
            type="radio"
            id={`cn-${name}`}
            label={title}
            checked={way === name}
            onChange={() => choose({ way: name })}
          />
        ))}
      </div>
      {way === 'membership' && (
        <div className="inline-form mb-3">
          <Chips label="Spaces that they come into" kind="space" values={spaces} onChange={(space) => choose({ space })} hint="a space" />
          <Form.Group controlId="cn-role">
            <Form.Label>As what</Form.Label>
            <Form.Select size="sm" value={as} onChange={(e) => choose({ role: e.target.value })}>
              {['view', 'contribute', 'manage'].map((r) => (
                <option key={r}>{r}</option>
              ))}
            </Form.Select>
          </Form.Group>
        </div>
      )}
      {plan.error && <Wrong error={plan.error} retry={() => void plan.refetch()} />}
      {!x && !plan.error && <Waiting what="Looking at both sides" />}
      {x && (
        <div className="partner">
          <section aria-labelledby="h-steps">
            <h2 id="h-steps">What is to be done</h2>
            <ol className="connect-steps">
              {x.steps.map((s, i) => (
                <Step
                  key={`${s.do} ${i}`}
                  s={s}
                  id={id}
                  role={role}
                  ready={!x.steps.slice(0, i).some((b) => !b.done && ((b.do === 'rule' && b.question) || b.do === 'feed'))}
                />
              ))}
            </ol>
            {x.done && <p className="gets-yes">▲ Nothing is left to do.</p>}
          </section>
          <section aria-labelledby="h-become">
            <h2 id="h-become">What becomes of those who are here</h2>
            {x.people.length === 0 && <Empty>Nobody of theirs is known here yet.</Empty>}
            {x.people.length > 0 && (
              <table className="table">
                <thead>
                  <tr>
                    <th scope="col">Who</th>
                    <th scope="col" className="num">
                      Roles
                    </th>
                    <th scope="col">Then</th>
                  </tr>
                </thead>
                <tbody>
                  {x.people.map((p) => (
                    <tr key={p.address}>
                      <th scope="row">
                        {p.state ? (
                          <Link to={`/guests/${encodeURIComponent(p.address)}`}>{p.name || p.address}</Link>
                        ) : (
                          (p.name ?? p.address)
                        )}
                        <span className="sub">
                          {p.name ? `${p.address}, ` : ''}
                          {p.state ?? 'no record'}
                        </span>
                      </th>
                      <td className="num">{p.roles}</td>
                      <td>{p.text}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            {x.twins.length > 0 && (
              <>
                <h3>Here twice?</h3>
                <ul className="domains">
                  {x.twins.map((t) => (
                    <li key={t.fed + t.guest}>
                      <span>
                        <b>{t.name}</b>: {t.fed} and {t.guest}
                        <span className="sub">{t.differs.join('; ')}</span>
                      </span>
                      <Link
                        className="btn btn-sm btn-outline-primary"
                        to={`/guests/${encodeURIComponent(t.fed)}?merge=${encodeURIComponent(t.guest)}`}
                      >
                        Make them one
                      </Link>
                    </li>
                  ))}
                </ul>
              </>
            )}
          </section>
        </div>
      )}
    </Page>
  )
}

/** One step; it is ready where nothing before it stands in its way. */
function Step({ s, id, role, ready }: { s: ConnectStep; id: string; role: string; ready: boolean }) {
  const [asking, setAsking] = useState(false)
  const keep = mayKeep(role)
  const open = useChange(async () => {
    const p = await call('GET /api/v1/partners/{id}', { path: { id } })
    await call('PATCH /api/v1/partners/{id}', {
      path: { id },
      body: { opened: Object.fromEntries((s.keys ?? []).map((k) => [k, true])) },
      headers: { 'If-Match': p.etag },
    })
  })
  const rule = useChange(() =>
    call('PUT /api/v1/values/{where}/{rule}', {
      path: { where: `partner:${id}`, rule: 'directory.feed_in' },
      body: { value: 'on', why: 'a people feed is to keep their people' },
    }),
  )
  const button = (text: string, press: () => void, busy = false) => (
    <Button size="sm" variant="outline-primary" disabled={busy} onClick={press}>
      {text}
    </Button>
  )
  return (
    <li className={s.done ? 'done' : ''}>
      <span>
        {s.done ? <b className="gets-yes">▲ done: </b> : ''}
        {s.text}
      </span>
      {(open.error ?? rule.error) && <Wrong error={open.error ?? rule.error} />}
      {!s.done && (
        <div className="inline-form">
          {keep && s.do === 'open' && button('Open it', () => open.mutate(), open.isPending)}
          {keep && s.do === 'rule' && !s.question && button('Let them', () => rule.mutate(), rule.isPending)}
          {s.do === 'rule' && s.question && <Link to={questionPath(s.question)}>What would help</Link>}
          {s.do === 'letter' && <Link to={`/partners/${id}#h-letter`}>Write to them</Link>}
          {role === 'administrator' && s.do === 'feed' && button('Begin the feed', () => setAsking(true))}
          {s.do === 'feed_on' && ready && <Link to={`/feeds/${id}`}>See the feed</Link>}
          {keep &&
            ready &&
            (s.do === 'give' || s.do === 'tidy') &&
            s.edits &&
            s.edits.length > 0 &&
            button(s.do === 'give' ? 'Give it' : `End ${s.edits.length === 1 ? 'it' : `all ${s.edits.length}`}`, () => setAsking(true))}
          {s.do === 'try' && s.question && <Link to={questionPath(s.question)}>What stands in the way</Link>}
        </div>
      )}
      {asking && s.do === 'feed' && <BeginFeed partner={id} close={() => setAsking(false)} />}
      {asking && s.edits && (
        <PlaceDialog
          title={s.do === 'give' ? 'Give it to everybody of theirs' : 'End what says no more'}
          submit={s.do === 'give' ? 'Give it' : 'End them'}
          edits={s.edits}
          name={id}
          close={() => setAsking(false)}
        />
      )}
    </li>
  )
}
