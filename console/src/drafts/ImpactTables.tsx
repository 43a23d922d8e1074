import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { type Impact, type WideNumber } from '../api'
import { n } from './Impact'

const words = { gained: '+ gained', lost: '− lost', otherwise: '~ otherwise' }
const looks = { gained: 'opened', lost: 'closed', otherwise: 'otherwise' }

/** Wide actions: parties, resources and pairs, with what changes where something does. */
export function WideTable({ rows }: { rows: WideNumber[] }) {
  const changes = rows.some((w) => w.change)
  return (
    <div className="wide" role="region" aria-label="Wide actions" tabIndex={0}>
      <table className="table listing">
        <thead>
          <tr>
            {changes && <th scope="col">Change</th>}
            <th scope="col">Action</th>
            <th scope="col" className="num">
              Parties
            </th>
            <th scope="col" className="num">
              Resources
            </th>
            <th scope="col" className="num">
              Pairs
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((w) => (
            <tr key={(w.change ?? '') + w.action + w.kind + (w.scope ?? '')}>
              {w.change && (
                <td>
                  <span className={`change is-${looks[w.change]}`}>{words[w.change]}</span>
                </td>
              )}
              <th scope="row">
                {w.action}
                <span className="sub">
                  {w.kind}
                  {w.scope ? `, ${w.scope === 'shared' ? 'those of shared spaces' : 'everybody'}` : ''}
                </span>
              </th>
              <td className="num">{n(w.parties)}</td>
              <td className="num">{w.scope ? '–' : n(w.resources)}</td>
              <td className="num">{n(w.pairs)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

/** The lines behind an impact. */
export function ImpactTables({ x, download }: { x: Impact; download?: string }) {
  const [shown, setShown] = useState(50)
  return (
    <>
      {x.wide.length > 0 && (
        <section>
          <h3>What needs no role</h3>
          <WideTable rows={x.wide} />
        </section>
      )}
      {x.newcomers.length > 0 && (
        <section>
          <h3>Typical newcomers</h3>
          <div className="wide" role="region" aria-label="Typical newcomers" tabIndex={0}>
            <table className="table listing">
              <thead>
                <tr>
                  <th scope="col">Change</th>
                  <th scope="col">Who</th>
                  <th scope="col">Action</th>
                  <th scope="col" className="num">
                    Resources
                  </th>
                </tr>
              </thead>
              <tbody>
                {x.newcomers.slice(0, shown).map((m, i) => (
                  <tr key={i}>
                    <td>
                      <span className={`change is-${looks[m.change]}`}>{words[m.change]}</span>
                    </td>
                    <th scope="row">
                      {m.name}
                      <span className="sub">{m.who}</span>
                    </th>
                    <td>{m.action}</td>
                    <td className="num">
                      {n(m.count)}
                      <span className="sub">{m.kind}</span>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </section>
      )}
      {x.lines.length > 0 && (
        <section>
          <h3>Who and what</h3>
          <div className="wide" role="region" aria-label="Lines of the impact" tabIndex={0}>
            <table className="table listing">
              <thead>
                <tr>
                  <th scope="col">Change</th>
                  <th scope="col">Party</th>
                  <th scope="col">Resource</th>
                  <th scope="col">Actions</th>
                </tr>
              </thead>
              <tbody>
                {x.lines.slice(0, shown).map((l, i) => (
                  <tr key={i}>
                    <td>
                      <span className={`change is-${looks[l.change]}`}>{words[l.change]}</span>
                    </td>
                    <th scope="row">
                      {l.name || l.who}
                      <span className="sub">
                        {l.who}
                        {l.partner ? ` · ${l.partner}` : ''}
                      </span>
                    </th>
                    <td>
                      {l.resource_name || (l.resource.endsWith(':*') ? `${n(l.count)} of kind ${l.resource.slice(0, -2)}` : l.resource)}
                      {l.resource_name && <span className="sub">{l.resource}</span>}
                    </td>
                    <td>
                      {l.actions.map((a, k) => (
                        <span key={a}>
                          {k > 0 && ', '}
                          {l.resource.endsWith(':*') ? (
                            a
                          ) : (
                            <Link to={`/ask?who=${encodeURIComponent(l.who)}&action=${a}&resource=${encodeURIComponent(l.resource)}`}>
                              {a}
                            </Link>
                          )}
                        </span>
                      ))}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </section>
      )}
      <p className="lists">
        {shown < Math.max(x.lines.length, x.newcomers.length) && (
          <Button size="sm" variant="outline-primary" onClick={() => setShown(shown + 200)}>
            More lines
          </Button>
        )}
        {download && x.lines.length > 0 && (
          <a href={download} download="impact.csv">
            Every line as CSV
          </a>
        )}
      </p>
    </>
  )
}
