import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { call, type SystemSetting, type SystemView, type Trials } from '../api'
import { Page, Waiting, when, Wrong } from '../parts/bits'
import { useChange } from '../parts/change'
import { KeptTable } from './KeptTable'
import { Differs } from './SystemsPage'
import { modes, standing, summary } from './words'
import { Tried } from './Tried'
import { Decide, turns, type Asking } from './SystemForms'

/** What a take-over made, and what of the system is no policy. */
interface Taken {
  draft: string
  left: string[]
}

// Asks says for what a system asks while it acts.
function Asks({ v }: { v: SystemView }) {
  const on = v.asks.filter((a) => a.on)
  return (
    <>
      {on.length > 0 && (
        <p className="mt-3">
          It asks here each time, so what is published counts at once, about: {on.map((a) => a.rule_title).join('; ')}.
        </p>
      )}
      {v.asks
        .filter((a) => !a.on || a.open)
        .map((a) => (
          <p key={a.rule} className="text-danger mt-3">
            {a.on ? `When nobody answers: ${a.open}.` : `It does not ask about “${a.rule_title}”, though it could.`}
          </p>
        ))}
    </>
  )
}

export function SystemPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const [asking, setAsking] = useState<Asking>()
  const [all, setAll] = useState(false)
  const got = useQuery({
    queryKey: ['system', id],
    queryFn: () => call('GET /api/v1/systems/{id}', { path: { id } }),
    refetchInterval: (q) => ((q.state.data?.open ?? 0) > 0 || q.state.data?.kinds.some((k) => k.open > 0) ? 2000 : 15000),
  })
  const read = useChange<SystemView>(() => call('POST /api/v1/systems/{id}/read', { path: { id } }))
  const take = useChange<Taken, string | undefined>((setting) =>
    call('POST /api/v1/systems/{id}/take-over', { path: { id }, body: setting ? { setting } : {} }),
  )
  const tryAll = useChange<Trials>(() => call('POST /api/v1/systems/{id}/try', { path: { id }, body: {} }))
  const v = got.data
  if (!v)
    return (
      <Page title={id}>
        {got.error ? <Wrong error={got.error} retry={() => void got.refetch()} /> : <Waiting what="Reading what was found" />}
      </Page>
    )
  const admin = role === 'administrator'
  const sets = v.settings.length - shownSettings(v.settings, false).length
  const s = summary(v)
  return (
    <Page
      title={v.name}
      lead={
        <>
          {v.title}. {modes[v.mode]}{' '}
          {v.read ? `Read ${when(v.read)}, every ${v.minutes === 1 ? 'minute' : `${v.minutes} minutes`}.` : 'Never read.'}
        </>
      }
      tools={
        <>
          {role !== 'auditor' && v.mode !== 'paused' && (
            <Button size="sm" variant="outline-primary" disabled={read.isPending} onClick={() => read.mutate()}>
              Read now
            </Button>
          )}
          {role !== 'auditor' && v.differ > 0 && (
            <Button size="sm" variant="outline-primary" disabled={take.isPending} onClick={() => take.mutate(undefined)}>
              Take over as a draft
            </Button>
          )}
          {role !== 'auditor' && v.mode !== 'paused' && v.tries.length > 0 && (
            <Button size="sm" variant="outline-primary" disabled={tryAll.isPending} onClick={() => tryAll.mutate()}>
              {tryAll.isPending ? 'Trying…' : 'Try it from outside'}
            </Button>
          )}
          {admin && v.mode !== 'look' && (
            <Button size="sm" variant="outline-primary" onClick={() => setAsking({ what: 'look' })}>
              Only look
            </Button>
          )}
          {admin && v.mode !== 'paused' && (
            <Button size="sm" variant="outline-primary" onClick={() => setAsking({ what: 'paused' })}>
              Pause
            </Button>
          )}
          {admin && v.mode !== 'carry' && (
            <Button size="sm" onClick={() => setAsking({ what: 'carry' })}>
              Have it carried
            </Button>
          )}
        </>
      }
    >
      {read.error && <Wrong error={read.error} />}
      {take.error && <Wrong error={take.error} />}
      {tryAll.error && <Wrong error={tryAll.error} />}
      {tryAll.data && <Tried x={tryAll.data} />}
      {take.data && (
        <div className="notice" role="status">
          <p>
            What it holds is <Link to={`/drafts/${take.data.draft}`}>a draft</Link> now; nothing counts before that is published.
          </p>
          {take.data.left.length > 0 && (
            <ul>
              {take.data.left.map((l) => (
                <li key={l}>{l}.</li>
              ))}
            </ul>
          )}
        </div>
      )}
      <section className={`system is-${s.tone}`} aria-label="How it stands">
        <p className="system-says" role="status">
          {s.text}
        </p>
        <Differs v={v} />
      </section>
      <Asks v={v} />
      {(v.settings.length > 0 || v.asks.length === 0) && <h2>Setting by setting</h2>}
      <div className="wide" role="region" aria-label="Settings" tabIndex={0} hidden={v.settings.length === 0 && v.asks.length > 0}>
        <table className="table listing settings-found">
          <thead>
            <tr>
              <th scope="col">There it is called</th>
              <th scope="col">It carries</th>
              <th scope="col">Meant</th>
              <th scope="col">Found</th>
              <th scope="col">How it stands</th>
            </tr>
          </thead>
          <tbody>
            {shownSettings(v.settings, all).map((x) => (
              <Row key={x.path} x={x} admin={admin} carried={v.mode === 'carry'} ask={setAsking} />
            ))}
          </tbody>
        </table>
      </div>
      {!all && sets > 0 && (
        <p>
          <Button size="sm" variant="link" onClick={() => setAll(true)}>
            Show {sets} more {sets === 1 ? 'set' : 'sets'} of values that {sets === 1 ? 'is' : 'are'} as meant
          </Button>
        </p>
      )}
      <KeptTable v={v} admin={admin} />
      {v.unread.length > 0 && (
        <>
          <h2>Not looked at</h2>
          <ul>
            {v.unread.map((u) => (
              <li key={u.path}>
                <code>{u.path}</code> ({u.rule}): {u.why}.
              </li>
            ))}
          </ul>
        </>
      )}
      {v.extra.length > 0 && (
        <p className="quiet">
          It has settings that carry no rule of ours, so what they open is not known here:{' '}
          {v.extra.map((e, i) => (
            <span key={e.path}>
              {i > 0 ? ', ' : ''}
              {e.path} is “{e.value}”
            </span>
          ))}
          .
        </p>
      )}
      <p className="quiet">
        Address <code>{v.address}</code>; its key is at <code>{v.key}</code>.{' '}
        {v.put_back === 'beyond' ? 'What is loosened there is put back by itself.' : 'Nothing is put back unasked.'}{' '}
        {admin && (
          <Button size="sm" variant="link" onClick={() => setAsking({ what: v.put_back === 'beyond' ? 'no' : 'beyond' })}>
            {v.put_back === 'beyond' ? 'Put nothing back unasked' : 'Put back by itself what is loosened there'}
          </Button>
        )}{' '}
        {v.tries.length > 0 &&
          (v.nightly ? 'It is tried from outside every night.' : 'It is tried from outside only when somebody says so.')}{' '}
        {admin && v.tries.length > 0 && (
          <Button size="sm" variant="link" onClick={() => setAsking({ what: v.nightly ? 'days' : 'nightly' })}>
            {v.nightly ? 'Stop trying it every night' : 'Try it every night'}
          </Button>
        )}{' '}
        <Link to={`/journal?kind=system_setting`}>Journal of its settings</Link>
        {admin && (
          <>
            {' '}
            <Button size="sm" variant="link" className="gets-no" onClick={() => setAsking({ what: 'end' })}>
              Take it away
            </Button>
          </>
        )}
      </p>
      {asking && <Decide v={v} asking={asking} close={() => setAsking(undefined)} />}
    </Page>
  )
}

/** Settings, those that need somebody first; sets of values that are as meant only where all are wanted. */
const shownSettings = (list: SystemSetting[], all: boolean) =>
  list.filter((x) => all || !x.set || standing(x).tone !== 'right').sort((a, b) => rank(a) - rank(b))

const rank = (s: SystemSetting) => ({ wrong: 0, way: 1, quiet: 2, right: 3 })[standing(s).tone]

function Row({ x, admin, carried, ask }: { x: SystemSetting; admin: boolean; carried: boolean; ask: (a: Asking) => void }) {
  const st = standing(x)
  return (
    <tr className={`is-${st.tone}`}>
      <th scope="row">
        {x.title}
        <span className="sub">{x.path}</span>
      </th>
      <td>{x.rule ? <Link to={`/rules?rule=${x.rule}`}>{x.rule_title}</Link> : 'Values of its own'}</td>
      <td>{(x.set ? x.meant_own : x.meant) || 'none'}</td>
      <td>{x.there ? (x.set ? x.found_own : x.found) || 'none' : '–'}</td>
      <td>
        <span className="standing">{st.text}</span>
        {x.cause && !x.drift && x.state !== 'confirmed' && <span className="sub">{x.cause}</span>}
        {x.drift && !x.drift.accepted && (
          <span className="sub">
            It was right {when(x.drift.after)}; putting it back {turns[x.turn ?? 'unclear']}.
          </span>
        )}
        {x.drift?.accepted && (
          <span className="sub">
            {x.drift.by}: {x.drift.why}
          </span>
        )}
        {admin && x.drift && (
          <span className="row-tools">
            {carried && (
              <Button size="sm" variant="link" onClick={() => ask({ what: 'put_back', s: x })} aria-label={`Put it back: ${x.title}`}>
                Put it back
              </Button>
            )}
            {!x.drift.accepted && (
              <Button size="sm" variant="link" onClick={() => ask({ what: 'accept', s: x })} aria-label={`Accept for a while: ${x.title}`}>
                Accept for a while
              </Button>
            )}
          </span>
        )}
        {admin && carried && (x.state === 'failed' || (x.state === 'differs' && x.problem)) && (
          <Button size="sm" variant="link" onClick={() => ask({ what: 'again', s: x })} aria-label={`Send it again: ${x.title}`}>
            Send it again
          </Button>
        )}
      </td>
    </tr>
  )
}
