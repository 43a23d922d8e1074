import { useState } from 'react'
import { Link } from 'react-router'
import { type Cause } from '../api'
import { whoWord } from '../parts/bits'
import { placeOf } from '../parts/place'

export function CauseView({ c }: { c: Cause }) {
  const [open, setOpen] = useState(false)
  const place =
    c.refuses && c.side === 'ours' ? placeOf(c.at ?? (c.partner ? `partner:${c.partner}` : c.rule ? `rule:${c.rule}` : '')) : undefined
  return (
    <li className={c.refuses ? 'cause is-refusing' : 'cause'} data-testid="cause" data-code={c.code}>
      <p className="cause-text">
        <span className="cause-mark" aria-hidden="true">
          {c.refuses ? '✕' : '✓'}
        </span>
        <span>{c.text}</span>
      </p>
      {c.refuses && (
        <p className="cause-whose">
          <span className={`side side-${c.side}`}>{c.side}</span>
          {c.who && <span>can be changed by {whoWord(c.who)}</span>}
        </p>
      )}
      {c.next && (
        <p className="cause-next">
          <span aria-hidden="true">→ </span>
          {c.next} {place && <Link to={place.to}>{place.label}</Link>}
        </p>
      )}
      {c.chain && (
        <>
          <button type="button" className="chain-toggle" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? 'Hide' : 'Show'} how {c.rule} came to be {c.value}
          </button>
          {open && <Chain c={c} />}
        </>
      )}
    </li>
  )
}

function Chain({ c }: { c: Cause }) {
  const stands = (c.options ?? []).filter((o) => !o.can)
  return (
    <div className="chain">
      <ol>
        {c.chain!.map((s) => (
          <li key={s.layer} className={s.decides ? 'decides' : ''}>
            <span className="layer">{s.layer}</span>
            <span className="chain-value">{s.value ?? 'says nothing'}</span>
            {s.where && <span className="where">{s.where}</span>}
            {s.held && <span className="held">held back: {s.held}</span>}
            {s.decides && <span className="tag">decides</span>}
          </li>
        ))}
      </ol>
      <p>
        {c.layer === 'default' ? (
          <>No lower layer says anything. The limit would let it go up to {c.without}.</>
        ) : (
          <>
            Without what the {c.layer} says it would be {c.without}.
          </>
        )}
        {stands.length > 0 && <> Not available here: {stands.map((o) => `${o.value} (${o.by}, ${o.who})`).join(', ')}.</>}
      </p>
    </div>
  )
}
