import { useEffect, useState } from 'react'
import { Form } from 'react-bootstrap'
import type { Stated } from '../api'
import { when } from '../parts/bits'

const iso = (days: number) => {
  const d = new Date()
  d.setDate(d.getDate() + days)
  return `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, '0')}-${String(d.getDate()).padStart(2, '0')}`
}

/** A line of time to move along: a quarter back, a year ahead. Empty is now. */
export function TimeLine({ at, onChange }: { at: string; onChange: (at: string) => void }) {
  const [days, setDays] = useState(0)
  useEffect(() => {
    if (at === '') setDays(0)
  }, [at])
  const settle = (n: number) => onChange(n === 0 ? '' : iso(n))
  return (
    <div className="time-line-tool">
      <Form.Label htmlFor="t-range">When</Form.Label>
      <input
        id="t-range"
        type="range"
        min={-90}
        max={365}
        value={days}
        aria-valuetext={days === 0 ? 'now' : iso(days)}
        list="t-marks"
        onChange={(e) => setDays(Number(e.target.value))}
        onPointerUp={() => settle(days)}
        onKeyUp={() => settle(days)}
        onBlur={() => settle(days)}
      />
      <datalist id="t-marks">
        <option value={-90} />
        <option value={0} />
        <option value={365} />
      </datalist>
      <Form.Control
        size="sm"
        type="date"
        aria-label="Day"
        value={at}
        onChange={(e) => {
          onChange(e.target.value)
          if (e.target.value) setDays(Math.max(-90, Math.min(365, Math.round((new Date(e.target.value).getTime() - Date.now()) / 86400000))))
        }}
      />
      <output htmlFor="t-range">{at ? (days < 0 ? 'as recorded then' : 'as far as known now') : 'now'}</output>
    </div>
  )
}

/** What every result states about itself. */
export function StatedLine({ s }: { s: Stated }) {
  return (
    <details className="stated">
      <summary>
        {when(s.at)}, revision {s.revision}
        {s.recorded === 'first' && ': nothing was recorded yet, the first record was asked as of then'}
        {s.recorded === 'then' && ', as recorded then'}
      </summary>
      <p>{s.method}</p>
      <ul>
        {s.not_looked_at.map((t) => (
          <li key={t}>Not looked at: {t}</li>
        ))}
      </ul>
    </details>
  )
}
