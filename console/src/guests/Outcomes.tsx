import { Link } from 'react-router'
import { Capped } from '../parts/Capped'
import type { InvitationOpens, InvitedLine } from '../api'
import { Reasons } from '../parts/bits'

const titles: Record<string, string> = {
  yes: '▲ yes',
  no: '▼ no',
  already: '= already',
  duplicate: '= twice',
  own: '▼ our own',
  malformed: '▼ malformed',
}

/** What became of each address of a list, or would. */
export function Outcomes({ lines, made, mail }: { lines: InvitedLine[]; made?: boolean; mail?: boolean }) {
  return (
    <ul className="outcomes">
      {lines.map((l, i) => (
        <li key={i} className={l.done ? 'is-yes' : 'is-no'}>
          <span className="outcome-what">
            {l.done ? `▲ ${made ? '' : 'would be '}${l.done === 'given' && !mail ? 'named' : l.done}` : titles[l.check.verdict]}
          </span>
          <span>
            {mail && made && l.done ? (
              <Link to={`/guests/${encodeURIComponent(l.check.address ?? '')}`}>{l.check.address}</Link>
            ) : (
              (l.check.address ?? l.check.text)
            )}
            {l.check.reason && <span className="sub">{l.check.reason}</span>}
            <Reasons causes={l.check.causes} />
            {!l.done && l.check.next && <span className="sub">Next: {l.check.next}</span>}
          </span>
        </li>
      ))}
    </ul>
  )
}

/** What somebody could do then, place by place, and what stays closed. */
export function OpensList({ o }: { o: InvitationOpens }) {
  const opened = o.lines.filter((l) => l.change === 'opened' || l.change === 'otherwise')
  const closed = o.lines.filter((l) => l.change === 'closed')
  const by = new Map<string, string[]>()
  for (const l of opened) {
    const at = l.name && !l.resource.endsWith(':*') && !l.resource.startsWith('directory:') ? l.name : 'besides, without a role'
    by.set(at, [...new Set([...(by.get(at) ?? []), l.action])])
  }
  return (
    <>
      <ul className="opens">
        {[...by].map(([at, actions]) => (
          <li key={at}>
            <strong>{at}</strong> <span>{actions.join(', ')}</span>
          </li>
        ))}
      </ul>
      <details>
        <summary>{closed.length} things stay closed</summary>
        <Capped list={closed} first={40}>
          {(shown) => (
            <ul className="plain-list">
              {shown.map((l, i) => (
                <li key={i}>
                  {l.action} {l.name || l.resource}: <span className="quiet">{l.text}</span>
                </li>
              ))}
            </ul>
          )}
        </Capped>
      </details>
    </>
  )
}
