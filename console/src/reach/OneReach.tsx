import { Empty, Waiting, Wrong, until } from '../parts/bits'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { Fragment, useState } from 'react'
import { Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, linked, query, services, type ReachLine } from '../api'
import { ReachDiffers } from '../systems/WhereItDiffers'
import { StatedLine } from './time'
import { Through } from './Through'

type Line = { key: string; resource: string; name?: string; count: number; verbs: string[]; l: ReachLine }

/** Lines of one service where resource, answer, conditions, cause and end are the same. */
function merged(lines: ReachLine[]): Line[] {
  const out = new Map<string, Line>()
  for (const l of lines) {
    const key = [l.resource, l.decision, l.conditions.join(), l.cause.text, l.until ?? ''].join('|')
    const verb = l.action.split('.')[1].replaceAll('_', ' ')
    const have = out.get(key)
    if (have) have.verbs.push(verb)
    else out.set(key, { key, resource: l.resource, name: l.name, count: l.count, verbs: [verb], l })
  }
  return [...out.values()]
}

export function One({ who, at }: { who: string; at: string }) {
  const [no, setNo] = useState(false)
  const reach = useQuery({
    queryKey: ['reach', who, at],
    queryFn: () => call('GET /api/v1/reach', { query: { who, at } }),
    placeholderData: keepPreviousData,
  })
  if (reach.error) return <Wrong error={reach.error} retry={() => void reach.refetch()} />
  const x = reach.data
  if (!x) return <Waiting what="Asking every action" />
  const shown = x.lines.filter((l) => no || l.decision === 'yes')
  return (
    <>
      <p className="figures" role="status">
        <b>{x.name || x.subject}</b> ({x.subject}, {x.kind}).
        {x.first_lost ? ` First access to end: ${until(x.first_lost)}.` : ' None of it ends by itself.'}
      </p>
      {!at && <ReachDiffers who={who} />}
      <Form.Check id="r-no" label="Also what is refused, and why" checked={no} onChange={(e) => setNo(e.target.checked)} className="mb-2" />
      {shown.length === 0 && <Empty>Nothing at all. Show what is refused to see why.</Empty>}
      {services.map((s) => {
        const lines = merged(shown.filter((l) => l.service === s))
        if (lines.length === 0) return null
        return (
          <Fragment key={s}>
            <h2 className="service-head">{s}</h2>
            <div className="wide" role="region" aria-label={`Reach in ${s}`} tabIndex={0}>
              <table className="table listing even-columns">
                <thead>
                  <tr>
                    <th scope="col">What</th>
                    <th scope="col">Actions</th>
                    <th scope="col">Through</th>
                    <th scope="col">Since and until</th>
                  </tr>
                </thead>
                <tbody>
                  {lines.map(({ key, resource, name, count, verbs, l }) => (
                    <tr key={key}>
                      <th scope="row">
                        {resource.endsWith(':*') ? (
                          `${count} ${count === 1 ? resource.slice(0, -2) : `of ${resource.slice(0, -2)}`}`
                        ) : (
                          <Link to={`/audience${query({ resource, at })}`}>{name || resource}</Link>
                        )}
                        <span className="sub">{resource}</span>
                      </th>
                      <td className={l.decision === 'no' ? 'gets-no' : ''}>
                        {l.decision === 'no' ? '▼ ' : '▲ '}
                        {resource.endsWith(':*') || count > 1
                          ? verbs.join(', ')
                          : verbs.map((v, i) => (
                              <Fragment key={v}>
                                {i > 0 && ', '}
                                <Link
                                  to={`/ask${query({ who: x.subject, action: `${l.service}.${v.replaceAll(' ', '_')}`, resource, at })}`}
                                >
                                  {v}
                                </Link>
                              </Fragment>
                            ))}
                        {l.conditions.length > 0 && <span className="sub">with {l.conditions.join(', ').replaceAll('_', ' ')}</span>}
                      </td>
                      <Through l={l} />
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          </Fragment>
        )
      })}
      <p className="lists">
        <a href={linked('GET /api/v1/report/{what}', { path: { what: 'reach' }, query: { who, at, form: 'html' } })}>
          As a page that prints
        </a>
        <a href={linked('GET /api/v1/report/{what}', { path: { what: 'reach' }, query: { who, at, form: 'csv' } })} download="reach.csv">
          As CSV
        </a>
        <Link to={`/difference${query({ who })}`}>What differs from somebody else, or from another day</Link>
      </p>
      {x.stated && <StatedLine s={x.stated} />}
    </>
  )
}
