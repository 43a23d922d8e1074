import type { DueStep } from '../api'
import { until } from '../parts/bits'
import { marks } from './words'

const dayMs = 86400000

/** A line of time: what becomes of a record on which day, and why. Where two lines are told, the second is what would be. */
export function Line({ steps, label }: { steps: DueStep[]; label: string }) {
  if (steps.length === 0) return <p className="quiet">Nothing ends by itself.</p>
  const now = Date.now()
  const last = Math.max(...steps.map((s) => Date.parse(s.at)), now + 30 * dayMs)
  const first = Math.min(now, ...steps.map((s) => Date.parse(s.at)))
  const span = last - first
  const x = (t: number) => `${(100 * (t - first)) / span}%`
  const ticks: number[] = []
  const from = new Date(first)
  const months = span / (30.4 * dayMs)
  const every = months > 30 ? 6 : months > 14 ? 3 : 1
  for (
    let d = new Date(Date.UTC(from.getUTCFullYear(), from.getUTCMonth() + 1, 1));
    d.getTime() < last;
    d = new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth() + every, 1))
  )
    ticks.push(d.getTime())
  const month = (t: number) =>
    new Date(t).toLocaleDateString('en-GB', {
      month: 'short',
      timeZone: 'UTC',
      ...(new Date(t).getUTCMonth() === 0 ? { year: 'numeric' } : {}),
    })
  return (
    <figure className="tide-line">
      <div className="rope" role="img" aria-label={label}>
        <i className="rope-now" style={{ left: x(now) }} />
        {ticks.map((t) => (
          <span key={t} className="rope-tick" style={{ left: x(t) }}>
            {month(t)}
          </span>
        ))}
        {steps.map((s, i) => (
          <b key={i} className={`tide-knot is-${s.kind}`} style={{ left: x(Date.parse(s.at)) }} title={`${until(s.at)}: ${s.what}`} />
        ))}
      </div>
      <ol>
        {steps.map((s, i) => (
          <li key={i} className={`is-${s.kind}`}>
            <span className="due-mark" aria-hidden="true">
              {marks[s.kind]}
            </span>
            <time dateTime={s.at}>{until(s.at)}</time>
            <span>
              {s.what}
              {s.resource_name || s.resource ? `: ${s.role} on ${s.resource_name || s.resource}` : ''}{' '}
              <span className="quiet">({s.because})</span>
            </span>
          </li>
        ))}
      </ol>
    </figure>
  )
}
