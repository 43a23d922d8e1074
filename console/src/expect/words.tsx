import { type Counterexample, type Expectation } from '../api'
import { when } from '../parts/bits'
import { Link } from 'react-router'

/** Whether a day to come breaks it, and not the present. */
export const ahead = (x: Expectation) => x.state === 'broken' && !!x.from && !!x.judged && x.from > x.judged

/** How an expectation stands, in a word with a sign. */
export function Stands({ x }: { x: Expectation }) {
  const [sign, word] =
    x.state === 'broken'
      ? ['▼', x.only_could ? 'holds now, but could come to be broken' : ahead(x) ? `broken from ${when(x.from!)} on` : 'broken']
      : x.state === 'unknown'
        ? ['·', 'unknown']
        : x.empty
          ? ['△', 'about nothing']
          : ['▲', 'holds']
  return (
    <span className={`stands is-${x.state}`}>
      <span aria-hidden="true">{sign}</span> {word}
    </span>
  )
}

/**
 * Who breaks an expectation, each with the question that shows why, asked of the moment at which it is broken. Without shows
 * there is no such question: what is asked outside the draft that breaks it would be answered as things are.
 */
export function Counterexamples({ of: x, most, shows = true }: { of: Expectation; most?: number; shows?: boolean }) {
  const could = x.only_could
  const always = x.expect.sort === 'always'
  return (
    <table className="table listing">
      <thead>
        <tr>
          <th scope="col">{could ? 'Who could' : always ? 'Who may not' : 'Who may'}</th>
          <th scope="col">What</th>
          <th scope="col">About</th>
          <th scope="col">
            <span className="visually-hidden">Why</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {x.examples.slice(0, most).map((e: Counterexample) => (
          <tr key={e.who + e.action + e.resource + (e.person ?? '')}>
            <td>
              {e.name || e.who}
              <span className="quiet sub">{e.newcomer ? 'typical of whoever nobody knows yet' : e.who}</span>
            </td>
            <td>
              <code>{e.action}</code>
            </td>
            <td>{e.count > 1 ? `${e.count} of ${e.resource.replace(/:\*$/, '')}` : e.resource}</td>
            <td>
              {shows && !e.resource.endsWith('*') && !e.person && (
                <Link
                  to={`/${could ? 'could' : 'ask'}?${new URLSearchParams({ who: e.who, action: e.action, resource: e.resource, ...(ahead(x) ? { at: x.from! } : {}) })}`}
                >
                  {could ? 'How' : 'Why'}
                </Link>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
