import type { ReactNode } from 'react'
import type { Exception } from '../api'
import { since, until as last } from '../parts/bits'

const before = 30
const after = 120
const dayMs = 86400000

/** Where a moment stands on the line of time, in per cent. */
function at(moment: string | undefined, none: number, now: number): number {
  if (!moment) return none
  const d = (new Date(moment).getTime() - now) / dayMs
  return Math.max(0, Math.min(100, (100 * (d + before)) / (before + after)))
}

/** Exceptions on a line of time from a month ago to four months ahead. */
export function ExceptionTimes({ list, tools }: { list: Exception[]; tools?: (x: Exception) => ReactNode }) {
  const now = Date.now()
  const today = at(new Date(now).toISOString(), 0, now)
  const marks = [-30, 0, 30, 60, 90, 120]
  return (
    <div className="times">
      <div className="times-head" aria-hidden="true">
        <span />
        <div className="axis">
          {marks.map((d) => (
            <span
              key={d}
              style={{ left: `${(100 * (d + before)) / (before + after)}%` }}
              className={d === 120 ? 'at-end' : d === -30 ? 'at-start' : ''}
            >
              {d === 0 ? 'today' : new Date(now + d * dayMs).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })}
            </span>
          ))}
        </div>
      </div>
      <ul>
        {list.map((x) => {
          const from = at(x.from, 0, now)
          const until = at(x.until, 100, now)
          const words = x.state === 'over' ? 'over' : x.state === 'ahead' ? 'ahead' : 'in force'
          return (
            <li key={x.id} id={x.id} className={`time is-${x.state}`}>
              <div className="time-text">
                <p>
                  <b>{x.id}</b> <span className="tag">{words}</span>{' '}
                  {x.without_effect && <span className="tag tag-held">changes nothing</span>}
                </p>
                <p className="quiet">{x.reason}</p>
                <p>
                  {[...x.people, ...x.groups.map((g) => `group ${g}`)].join(', ')}{' '}
                  <span className="quiet">
                    ({x.concerns} {x.concerns === 1 ? 'person' : 'people'})
                  </span>{' '}
                  towards {x.parties ? x.parties.join(', ') : 'everybody'}
                </p>
                <p>
                  {Object.entries(x.rules).map(([r, v]) => (
                    <code key={r} className="set">
                      {r} {v.value}
                      {v.held ? ' (held back)' : ''}
                    </code>
                  ))}
                </p>
                {tools?.(x)}
              </div>
              <div className="time-line">
                <span className="time-today" style={{ left: `${today}%` }} aria-hidden="true" />
                <span
                  className={`time-bar${x.from ? '' : ' no-start'}${x.until ? '' : ' no-end'}`}
                  style={{ left: `${from}%`, width: `${Math.max(1.2, until - from)}%` }}
                  aria-hidden="true"
                />
                <span className="time-words">
                  {x.from ? `from ${since(x.from)} ` : ''}
                  {x.until ? `until ${last(x.until)}` : 'without an end'}
                </span>
              </div>
            </li>
          )
        })}
      </ul>
    </div>
  )
}
