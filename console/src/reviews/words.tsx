import type { Round } from '../api'

export const stateWords: Record<string, string> = {
  open: 'not answered',
  kept: 'kept',
  narrowed: 'made narrower',
  ended: 'ended',
  gone: 'gone already',
  silent: 'nobody answered',
}

/** How far a round has come: a bar, and the numbers in words. */
export function Progress({ r }: { r: Round }) {
  const done = r.lines - r.open
  return (
    <div className="round-progress">
      <progress max={r.lines} value={done} aria-label={`Answered in ${r.name}`} />
      <span>
        {done} of {r.lines} answered
        {['kept', 'narrowed', 'ended', 'gone', 'silent']
          .filter((s) => r.states[s])
          .map((s) => ` · ${r.states[s]} ${stateWords[s]}`)
          .join('')}
      </span>
    </div>
  )
}
