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
  const x = (t: number) => 12 + (976 * (t - first)) / span
  const ticks: number[] = []
  const from = new Date(first)
  const months = span / (30.4 * dayMs)
  const every = months > 30 ? 6 : months > 14 ? 3 : 1
  for (let d = new Date(Date.UTC(from.getUTCFullYear(), from.getUTCMonth() + 1, 1)); d.getTime() < last; d = new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth() + every, 1))) ticks.push(d.getTime())
  return (
    <figure className="tide-line">
      <svg viewBox="0 0 1000 64" role="img" aria-label={label} preserveAspectRatio="none">
        <line x1={x(Math.max(now, first))} x2={988} y1={40} y2={40} className="tide-rope" />
        {ticks.map((t) => (
          <g key={t}>
            <line x1={x(t)} x2={x(t)} y1={40} y2={47} className="tide-tick" />
          </g>
        ))}
        <line x1={x(now)} x2={x(now)} y1={22} y2={54} className="tide-now" />
        {steps.map((s, i) => (
          <circle key={i} cx={x(Date.parse(s.at))} cy={40} r={6} className={`tide-knot is-${s.kind}`} vectorEffect="non-scaling-stroke" />
        ))}
      </svg>
      <ol>
        {steps.map((s, i) => (
          <li key={i} className={`is-${s.kind}`}>
            <span className="due-mark" aria-hidden="true">
              {marks[s.kind]}
            </span>
            <time dateTime={s.at}>{until(s.at)}</time>
            <span>
              {s.what}
              {s.resource_name || s.resource ? `: ${s.role} on ${s.resource_name || s.resource}` : ''} <span className="quiet">({s.because})</span>
            </span>
          </li>
        ))}
      </ol>
    </figure>
  )
}
