import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { call, type Findings, type Overview, type Session } from '../api'
import { ReviewsWait } from '../reviews/ReviewsWait'
import { Requests } from '../drafts/Requests'
import { Waits } from '../guests/Wishes'
import { again } from '../findings/FindingList'
import { useSystems } from '../systems/SystemsPage'
import { numbers, summary } from '../systems/words'
import { StartBanner } from '../start/StartPage'
import { StandsIn } from './Away'
import { DatesWait } from './DatesWait'
import { day, Empty, Page, Waiting, when, Wrong } from '../parts/bits'

const examples = [
  {
    text: 'Why can the lecturer not be invited?',
    href: '/ask?who=person%3Aj.penhallow&action=directory.invite&resource=space%3Adocent-course&address=h.brannoch%40oskelund.example',
  },
  {
    text: 'May the restorer open the valuations?',
    href: '/ask?who=maren.holtveig%40ilvane.example&action=files.open&resource=folder%3Aloan-valuations',
  },
  {
    text: 'Does the freight firm still get in?',
    href: '/ask?who=u.vexley%40marrowby.example&action=spaces.enter&resource=space%3Acrate-logistics',
  },
  { text: 'And whoever holds its link?', href: '/ask?who=link%3Acrate-list-link&action=files.open&resource=file%3Acrate-list' },
  {
    text: 'May the riggers take control of a screen?',
    href: '/ask?who=%2A%40orrin.example&action=meetings.remote_control&resource=meeting%3Arigging-call',
  },
]

export function Home({ session: me }: { session: Session }) {
  const { data, error, refetch } = useQuery({ queryKey: ['overview'], queryFn: () => call('GET /api/v1/overview') })
  const session = useQuery<{ demo: boolean }>({ queryKey: ['session'], enabled: false })
  if (error)
    return (
      <Page title="Today">
        <Wrong error={error} retry={() => void refetch()} />
      </Page>
    )
  if (!data) return <Waiting what="Looking around" />
  const n = data.counts
  return (
    <Page
      title="Today"
      lead={
        <>
          {data.organisation || 'Your organisation'}: {n.partners} partners, {n.guests} guests, {n.grants} grants and {n.links} links in{' '}
          {n.spaces} spaces. Revision {data.revision}.
        </>
      }
    >
      {me.role === 'administrator' && <StartBanner />}
      {me.role !== 'auditor' && <Waits />}
      {me.role === 'administrator' && <ToConfirm me={me} />}
      <DatesWait admin={me.role === 'administrator'} />
      <StandsIn session={me} />
      <Requests session={me} />
      {me.role !== 'auditor' && <ReviewsWait />}
      <div className="today">
        <section aria-labelledby="h-do">
          <h2 id="h-do">To do</h2>
          {data.todo.length === 0 ? (
            <Empty>Nothing waits. When somebody says “it does not work”, ask above.</Empty>
          ) : (
            <ul className="todo">
              {data.todo.map((t) => (
                <li key={t.text}>
                  <Link to={t.href}>{t.text}</Link>
                </li>
              ))}
            </ul>
          )}
          <Suite />
          <Exposed />
          {session.data?.demo && (
            <>
              <h2>Try a question</h2>
              <ul className="todo is-try">
                {examples.map((e) => (
                  <li key={e.text}>
                    <Link to={e.href}>{e.text}</Link>
                  </li>
                ))}
              </ul>
            </>
          )}
        </section>
        <section aria-labelledby="h-open">
          <h2 id="h-open">How open each service is</h2>
          <table className="table openness">
            <thead>
              <tr>
                <th scope="col">Service</th>
                <th scope="col">Partners in</th>
                <th scope="col">Partners out</th>
                <th scope="col">Looser than advised</th>
              </tr>
            </thead>
            <tbody>
              {data.services.map((s) => (
                <tr key={s.service}>
                  <th scope="row">
                    <Link to={`/rules?service=${s.service}`}>{s.service}</Link>
                  </th>
                  <td>
                    <Pips n={s.opened_in} of={n.partners} before={s.opened_in_before} />
                  </td>
                  <td>
                    <Pips n={s.opened_out} of={n.partners} before={s.opened_out_before} />
                  </td>
                  <td>{s.looser === 0 ? '–' : `${s.looser} ${s.looser === 1 ? 'rule' : 'rules'}`}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <Parties o={data} />
        </section>
        <section aria-labelledby="h-soon">
          <h2 id="h-soon">What ends soon</h2>
          {data.soon.length === 0 ? (
            <Empty>Nothing ends within thirty days.</Empty>
          ) : (
            <ol className="soon">
              {data.soon.slice(0, 12).map((e, i) => (
                <li key={i}>
                  {(i === 0 || data.soon[i - 1].last_day !== e.last_day) && <time dateTime={e.when}>{day(e.last_day)}</time>}
                  <span>
                    {e.what === 'record' ? 'record of ' : e.what === 'exception' ? 'exception ' : ''}
                    <b>{e.who}</b>
                    {e.what !== 'record' && e.what !== 'exception' ? ` on ${e.what}` : ''}
                  </span>
                </li>
              ))}
            </ol>
          )}
          {data.suspended.length > 0 && <p className="quiet">Not active: {data.suspended.join(', ')}.</p>}
        </section>
      </div>
    </Page>
  )
}

/** Drafts that somebody else asks to publish, and that wait for whoever reads this. */
function ToConfirm({ me }: { me: Session }) {
  const { data } = useQuery({ queryKey: ['drafts'], queryFn: () => call('GET /api/v1/drafts') })
  const list = (data?.drafts ?? []).filter((d) => d.state === 'waiting' && d.asked_by !== me.name)
  if (list.length === 0) return null
  return (
    <section className="to-confirm" aria-labelledby="h-confirm">
      <h2 id="h-confirm">Waits for you to confirm</h2>
      <ul className="todo">
        {list.map((d) => (
          <li key={d.id}>
            <Link to={`/drafts/${d.id}`}>{d.name}</Link>{' '}
            <span className="quiet">
              {d.asked_by} asks to publish it{d.publish_at ? ` on ${when(d.publish_at)}` : ''}.
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** What findings expose most parties, the first five. */
function Exposed() {
  const { data } = useQuery({
    queryKey: ['findings', 'first'],
    queryFn: () => call('GET /api/v1/findings', { query: { soon: true } }),
    refetchInterval: (q) => again(q.state.data?.behind),
  })
  const parties = (f: Findings['findings'][number]) => f.numbers.parties ?? 0
  const top = (data?.findings ?? [])
    .filter((f) => parties(f) > 0)
    .sort((a, b) => parties(b) - parties(a))
    .slice(0, 5)
  if (top.length === 0) return null
  return (
    <>
      <h2>Findings by what they expose</h2>
      <ul className="todo is-try">
        {top.map((f) => (
          <li key={f.id}>
            <Link to="/findings">
              <b>{parties(f)}</b> parties: {f.cause}
            </Link>
          </li>
        ))}
      </ul>
    </>
  )
}

/** Known parties by kind and by partner, each leading to its board. */
function Parties({ o }: { o: Overview }) {
  const kinds = Object.entries(o.by_kind ?? {}).sort((a, b) => b[1] - a[1])
  const partners = Object.entries(o.by_partner ?? {}).sort((a, b) => b[1] - a[1])
  if (kinds.length === 0) return null
  return (
    <>
      <h2 className="mt-3">Parties</h2>
      <p className="parties">
        {kinds.map(([k, n]) => (
          <Link key={k} to={`/reach?of=kind:${k}`}>
            <b>{n}</b> {k}
          </Link>
        ))}
      </p>
      <p className="quiet">
        {partners
          .slice(0, 8)
          .map(([name, n]) => `${n} ${name === '' ? 'at no partner' : `of ${name}`}`)
          .join(', ')}
        .
      </p>
    </>
  )
}

function Pips({ n, of, before }: { n: number; of: number; before?: number }) {
  return (
    <span className="pips">
      <span className="pips-bar" aria-hidden="true">
        <span style={{ width: `${of ? (100 * n) / of : 0}%` }} />
      </span>
      {n}
      {before !== undefined && before !== n && <span className="sub">a month ago {before}</span>}
    </span>
  )
}

/** What the systems let through and refuse besides what is meant. */
function Suite() {
  const list = useSystems()
  const xs = list.data?.systems ?? []
  if (xs.length === 0) return null
  return (
    <>
      <h2>In the suite</h2>
      <ul className="suite-now">
        {xs.map((v) => {
          const s = summary(v)
          return (
            <li key={v.id} className={`is-${s.tone}`}>
              <Link to={`/systems/${v.id}`}>{v.name}</Link> <span className="quiet">({v.services.join(', ')})</span>
              <span className="sub">{s.text}</span>
              {numbers(v.beyond) !== 'nothing' && <span className="sub gets-no">Lets through besides: {numbers(v.beyond)}.</span>}
            </li>
          )
        })}
      </ul>
    </>
  )
}
