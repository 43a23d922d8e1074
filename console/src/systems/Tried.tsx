import { type Trials } from '../api'

/** What came of everything that was tried. */
export function Tried({ x }: { x: Trials }) {
  const words: Record<string, string> = {
    admitted: 'let through',
    refused: 'refused',
    silent: 'no answer',
    too_early: 'too early to tell',
    not_tried: 'not tried',
  }
  return (
    <section aria-labelledby="h-tried">
      <h2 id="h-tried">Tried from outside</h2>
      <p role="status">
        {x.trials.length} trials, which stand for {x.stand_for.toLocaleString('en')} combinations of party, action and resource.{' '}
        {x.contradictions === 0
          ? 'None contradicts what was read.'
          : `${x.contradictions === 1 ? 'One contradicts' : `${x.contradictions} contradict`} what was read there.`}
      </p>
      <div className="wide" role="region" aria-label="Trials" tabIndex={0}>
        <table className="table listing">
          <thead>
            <tr>
              <th scope="col">Who</th>
              <th scope="col">Did what</th>
              <th scope="col">Meant</th>
              <th scope="col">Found</th>
              <th scope="col">Tried</th>
              <th scope="col">It says</th>
            </tr>
          </thead>
          <tbody>
            {x.trials.map((t) => (
              <tr key={t.id} className={t.contradiction ? 'is-wrong' : ''}>
                <th scope="row">{t.address ?? t.subject}</th>
                <td>{t.action}</td>
                <td>{t.meant}</td>
                <td>{t.found ?? '–'}</td>
                <td className={t.contradiction || (t.outcome === 'admitted' && t.meant === 'no') ? 'gets-no' : ''}>
                  {words[t.outcome]}
                  {t.outcome === 'admitted' && t.meant === 'no' && <span className="sub">refused here</span>}
                  {t.outcome === 'refused' && t.meant === 'yes' && !t.theirs && <span className="sub">a yes here</span>}
                </td>
                <td>{t.theirs ? `At their end: ${t.says}` : t.says}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  )
}
