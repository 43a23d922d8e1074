import { useEffect, useState } from 'react'
import { Form } from 'react-bootstrap'
import type { Stated } from '../api'
import { dayFromNow, when } from '../parts/bits'

/** A line of time to move along: a quarter back, a year ahead. Empty is now. */
export function TimeLine({ at, onChange }: { at: string; onChange: (at: string) => void }) {
  const told =
    at === ''
      ? 0
      : Math.max(-90, Math.min(365, Math.round((Date.parse(`${at}T12:00:00Z`) - Date.parse(`${dayFromNow()}T12:00:00Z`)) / 86400000)))
  const [moving, setMoving] = useState<number>()
  const days = moving ?? told
  useEffect(() => setMoving(undefined), [at])
  const settle = () => {
    if (moving === undefined) return // passing by changes nothing
    onChange(moving === 0 ? '' : dayFromNow(moving))
    setMoving(undefined)
  }
  return (
    <div className="time-line-tool">
      <Form.Label htmlFor="t-range">When</Form.Label>
      <input
        id="t-range"
        type="range"
        min={-90}
        max={365}
        value={days}
        aria-valuetext={days === 0 ? 'now' : dayFromNow(days)}
        list="t-marks"
        onChange={(e) => setMoving(Number(e.target.value))}
        onPointerUp={settle}
        onKeyUp={settle}
        onBlur={settle}
      />
      <datalist id="t-marks">
        <option value={-90} />
        <option value={0} />
        <option value={365} />
      </datalist>
      <Form.Control size="sm" type="date" aria-label="Day" value={at} onChange={(e) => onChange(e.target.value)} />
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
