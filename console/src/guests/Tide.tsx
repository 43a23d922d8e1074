import type { DueDays, DueStep } from '../api'
import { dayFromNow, day } from '../parts/bits'
import { kindWords, marks } from './words'

const above: DueStep['kind'][] = ['invitation_lapses', 'suspended', 'removed']
const below: DueStep['kind'][] = ['review_due', 'grant_ends']

/** What ends when, week by week: records above the water line, grants below it. */
export function Tide({ days, ending, choose }: { days: DueDays; ending: string; choose: (day: string) => void }) {
  const weeks: { from: string; last: string; kinds: Record<string, number> }[] = []
  const start = Date.parse(`${dayFromNow()}T00:00:00Z`)
  for (let w = 0; w < 26; w++) {
    const iso = (n: number) => new Date(start + n * 86400000).toISOString().slice(0, 10)
    weeks.push({ from: iso(7 * w), last: iso(7 * w + 6), kinds: {} })
  }
  for (const d of days.days) {
    const w = weeks[Math.min(25, Math.max(0, Math.floor((Date.parse(`${d.day}T00:00:00Z`) - start) / (7 * 86400000))))]
    for (const [k, n] of Object.entries(d.kinds)) w.kinds[k] = (w.kinds[k] ?? 0) + n
  }
  const sum = (w: (typeof weeks)[number], ks: string[]) => ks.reduce((n, k) => n + (w.kinds[k] ?? 0), 0)
  const up = Math.max(1, ...weeks.map((w) => sum(w, above)))
  const down = Math.max(1, ...weeks.map((w) => sum(w, below)))
  const tall = 74
  return (
    <figure className="tide">
      <figcaption>
        What ends in the next half year, week by week.{' '}
        {[...above, ...below].map((k) => (
          <span key={k} className={`tide-key is-${k}`}>
            <i aria-hidden="true">{marks[k]}</i> {days.kinds[k] ?? 0} {kindWords[k]}
          </span>
        ))}
      </figcaption>
      <ol>
        {weeks.map((w, i) => {
          const label = `Week of ${day(w.from)}: ${
            [...above, ...below]
              .filter((k) => w.kinds[k])
              .map((k) => `${w.kinds[k]} ${kindWords[k]}`)
              .join(', ') || 'nothing'
          }`
          let y = tall
          let z = tall + 2
          return (
            <li key={w.from} className={ending === w.last ? 'is-chosen' : ''}>
              <button type="button" title={label} aria-pressed={ending === w.last} onClick={() => choose(ending === w.last ? '' : w.last)}>
                <svg viewBox={`0 0 20 ${2 * tall + 2}`} preserveAspectRatio="none" aria-hidden="true">
                  {above.map((k) => {
                    const h = (0.68 * tall * (w.kinds[k] ?? 0)) / up
                    y -= h
                    return <rect key={k} x={2} width={16} y={y} height={h} className={`tide-bar is-${k}`} />
                  })}
                  {below.map((k) => {
                    const h = (tall * (w.kinds[k] ?? 0)) / down
                    const at = z
                    z += h
                    return <rect key={k} x={2} width={16} y={at} height={h} className={`tide-bar is-${k}`} />
                  })}
                  <line x1={0} x2={20} y1={tall + 1} y2={tall + 1} className="tide-water" />
                </svg>
                <span className="visually-hidden">{label}. Show who ends up to then</span>
                <span className="tide-n" aria-hidden="true">
                  {sum(w, above) || ''}
                </span>
                <span className="tide-week" aria-hidden="true">
                  {i % 4 === 0 ? day(w.from).replace(/^\w+,? /, '') : ''}
                </span>
              </button>
            </li>
          )
        })}
      </ol>
    </figure>
  )
}
