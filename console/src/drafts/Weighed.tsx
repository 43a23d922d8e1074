import { type Weighed } from '../api'
import { MovesText } from './Impact'

const moves = (w: Weighed) => [w.parties, w.granted, w.wide].some((m) => m.gained + m.lost + m.otherwise > 0)

/** Who would gain and who would lose by a change of one thing, before it is made. */
export function WeighedText({ w }: { w: Weighed | undefined }) {
  if (!w) return <p className="quiet">Counting who gains and who loses …</p>
  const lines = w.lines ?? []
  return (
    <>
      {w.nothing ? (
        <p className="impact-line">Nothing changes for anybody that is counted.</p>
      ) : !moves(w) ? (
        <p className="impact-line">Nobody who is known gains or loses anything.</p>
      ) : (
        <dl className="impact-figures">
          <div>
            <dt>Parties</dt>
            <dd>
              <MovesText m={w.parties} />
            </dd>
          </div>
          <div>
            <dt>Granted actions</dt>
            <dd>
              <MovesText m={w.granted} />
            </dd>
          </div>
          <div>
            <dt>Wide, in pairs</dt>
            <dd>
              <MovesText m={w.wide} />
            </dd>
          </div>
        </dl>
      )}
      {w.newcomers.length > 0 && <p>Typical newcomers who gain: {w.newcomers.join(', ')}.</p>}
      {lines.length > 0 && (
        <p className="quiet">
          {lines.slice(0, 6).join('; ')}
          {lines.length > 6 ? '; …' : '.'}
        </p>
      )}
      {w.not_counted.map((n) => (
        <p key={n} className="quiet">
          Not counted: {n}.
        </p>
      ))}
    </>
  )
}
