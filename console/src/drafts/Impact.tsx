import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { when } from '../parts/bits'
import { Breaks } from '../expect/Breaks'
import { type Impact, type Moves, type MovesBy } from '../api'

export const n = (x: number) => x.toLocaleString('en-GB')

/** Gained, lost and otherwise in a few signs; words say the same to those who listen. */
export function MovesText({ m }: { m: Moves | MovesBy }) {
  if (m.gained + m.lost + m.otherwise === 0) return <>nothing</>
  return (
    <span className="moves">
      {m.gained > 0 && (
        <span className="is-gain">
          +{n(m.gained)} <span className="visually-hidden">gained</span>
        </span>
      )}
      {m.lost > 0 && (
        <span className="is-loss">
          −{n(m.lost)} <span className="visually-hidden">lost</span>
        </span>
      )}
      {m.otherwise > 0 && (
        <span className="is-other">
          ~{n(m.otherwise)} <span className="visually-hidden">with other conditions</span>
        </span>
      )}
    </span>
  )
}

/** Who loses to the left of the keel, who gains to the right of it. */
export function Keel({
  title,
  rows,
  link,
  most = 8,
}: {
  title: string
  rows: MovesBy[]
  link?: (key: string) => string | undefined
  most?: number
}) {
  const [all, setAll] = useState(false)
  if (rows.length === 0) return null
  const widest = Math.max(...rows.map((r) => Math.max(r.gained + r.otherwise, r.lost)), 1)
  const share = (x: number) => `calc((100% - 3.6rem) * ${x === 0 ? 0 : Math.max(0.015, x / widest)})`
  const shown = all ? rows : rows.slice(0, most)
  return (
    <section className="keel" aria-label={title}>
      <h3>{title}</h3>
      <ul>
        {shown.map((r) => {
          const to = link?.(r.key)
          return (
            <li key={r.key}>
              <span className="keel-name">{to ? <Link to={to}>{r.name || r.key}</Link> : (r.name ?? r.key)}</span>
              <span className="keel-left">
                {r.lost > 0 && <span className="keel-number is-loss">−{n(r.lost)}</span>}
                <span className="keel-bar is-loss" style={{ width: share(r.lost) }} />
              </span>
              <span className="keel-right">
                <span className="keel-bar is-gain" style={{ width: share(r.gained) }} />
                <span className="keel-bar is-other" style={{ width: share(r.otherwise) }} />
                {r.gained > 0 && <span className="keel-number is-gain">+{n(r.gained)}</span>}
                {r.otherwise > 0 && <span className="keel-number is-other">~{n(r.otherwise)}</span>}
              </span>
            </li>
          )
        })}
      </ul>
      {rows.length > most && (
        <Button size="sm" variant="link" onClick={() => setAll(!all)}>
          {all ? 'Fewer' : `All ${rows.length}`}
        </Button>
      )}
    </section>
  )
}

/** An impact in a sentence and a picture. */
export function ImpactPicture({ x }: { x: Impact }) {
  const wide = { gained: 0, lost: 0, otherwise: 0 }
  for (const w of x.wide) wide[w.change!] += w.pairs
  const newcomers = new Set(x.newcomers.filter((m) => m.change !== 'lost').map((m) => m.who)).size
  const fewer = new Set(x.newcomers.filter((m) => m.change === 'lost').map((m) => m.who)).size
  return (
    <div className="impact">
      {x.nothing && x.held_total === 0 && !x.cut_off_total ? (
        <p className="impact-line">Nothing changes for anybody.</p>
      ) : (
        <dl className="impact-figures">
          <div>
            <dt>Parties</dt>
            <dd>
              <MovesText m={x.parties} />
            </dd>
          </div>
          <div>
            <dt>Granted actions</dt>
            <dd>
              <MovesText m={x.granted} />
            </dd>
          </div>
          <div>
            <dt>Wide, in pairs</dt>
            <dd>
              <MovesText m={wide} />
            </dd>
          </div>
          <div>
            <dt>Typical newcomers</dt>
            <dd>
              <MovesText m={{ gained: newcomers, lost: fewer, otherwise: 0 }} />
            </dd>
          </div>
        </dl>
      )}
      {x.loosens.length > 0 && (
        <p className="quiet">
          It loosens {x.loosens.slice(0, 4).join(', ')}
          {x.loosens.length > 4 ? ` and ${x.loosens.length - 4} more` : ''}.
        </p>
      )}
      {(x.breaks?.length ?? 0) > 0 && <Breaks list={x.breaks!} />}
      {x.second && <p className="second">Somebody else must confirm it before it counts.</p>}
      <div className="keels">
        <Keel title="By service" rows={x.services} />
        <Keel title="By partner" rows={x.partners} link={(k) => (k === 'none' ? undefined : `/partners/${k}`)} />
      </div>
      {(x.links_stopped.length > 0 || x.links_started.length > 0) && (
        <p>
          {x.links_stopped.length > 0 && (
            <>
              Links that stop: <b>{x.links_stopped.length}</b> ({x.links_stopped.slice(0, 6).join(', ')}
              {x.links_stopped.length > 6 ? ', …' : ''}).{' '}
            </>
          )}
          {x.links_started.length > 0 && (
            <>
              Links that work again: <b>{x.links_started.length}</b> ({x.links_started.slice(0, 6).join(', ')}
              {x.links_started.length > 6 ? ', …' : ''}).
            </>
          )}
        </p>
      )}
      <Elsewhere x={x} />
      {(x.cut_off_total ?? 0) > 0 && (
        <details className="held-list">
          <summary>
            <b>{x.cut_off_total}</b> {x.cut_off_total === 1 ? 'guest is' : 'guests are'} cut off at once by the dates
          </summary>
          <ul>
            {(x.cut_off ?? []).map((c) => (
              <li key={c.party}>
                {c.name || c.party}{' '}
                <span className="quiet">
                  {c.party}, {c.cause.replaceAll('_', ' ')}: it would have been {when(c.day)}
                </span>
              </li>
            ))}
          </ul>
        </details>
      )}
      {x.held_total > 0 && (
        <details className="held-list">
          <summary>
            {x.held_total} {x.held_total === 1 ? 'value becomes' : 'values become'} held back or {x.held_total === 1 ? 'is' : 'are'}{' '}
            released
          </summary>
          <ul>
            {x.held.map((h) => (
              <li key={h.where + h.rule}>
                <code>{h.where}</code>: {h.rule} {h.value} {h.held ? 'becomes held back' : 'is released'}
              </li>
            ))}
          </ul>
        </details>
      )}
    </div>
  )
}

/** What of an impact is about our own people, meetings that they present in, and records that end. */
function Elsewhere({ x }: { x: Impact }) {
  const sign = (c: string) => (c === 'gained' ? '+' : c === 'lost' ? '−' : '~')
  return (
    <>
      {(x.suspended ?? 0) > 0 && (
        <p>
          <b>{n(x.suspended!)}</b> {x.suspended === 1 ? 'record is' : 'records are'} suspended or removed at once.
        </p>
      )}
      {x.forwarders && (
        <p>
          Forwarders:{' '}
          {x.forwarders
            .slice(0, 6)
            .map((f) => `${f.mailbox} to ${f.to} ${f.starts ? 'starts' : 'stops'}`)
            .join('; ')}
          {x.forwarders.length > 6 ? ' …' : '.'}
        </p>
      )}
      {x.outward && (
        <details className="held-list">
          <summary>
            <b>{x.outward.length}</b> {x.outward.length === 1 ? 'thing' : 'things'} that our own people may do elsewhere{' '}
            {x.outward.length === 1 ? 'changes' : 'change'}
          </summary>
          <ul>
            {x.outward.map((m) => (
              <li key={m.action + m.who + m.change}>
                {sign(m.change)} {m.action} towards {m.name} ({m.who.replace('*@', '')}): {n(m.people)}{' '}
                {m.people === 1 ? `person, ${m.person}` : `people, ${m.person} among them`}
              </li>
            ))}
          </ul>
        </details>
      )}
      {x.presenters && (
        <details className="held-list">
          <summary>
            In any meeting that people of ours present in, {x.presenters.length}{' '}
            {x.presenters.length === 1 ? 'action changes' : 'actions change'} for outsiders
          </summary>
          <ul>
            {x.presenters.map((m) => (
              <li key={m.action + m.change}>
                {sign(m.change)} {m.action}: {n(m.parties)} parties, {n(m.presenters)} presenters
                {m.newcomers.length > 0 && <>, and {m.newcomers.join(', ')}</>}
              </li>
            ))}
          </ul>
        </details>
      )}
    </>
  )
}
