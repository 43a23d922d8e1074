import type { FeedLine } from '../api'
import { when } from '../parts/bits'

/** What came of requests of a feed, the newest first; picked is told whose line was chosen, where it is wanted. */
export function Lines({ lines, words, picked }: { lines: FeedLine[]; words: Record<string, string>; picked?: (user: string) => void }) {
  return (
    <ul className="domains">
      {lines.map((l) => (
        <li key={l.n}>
          <span>
            <b className={l.what === 'refused' ? 'gets-no' : ''}>{words[l.what] ?? l.what}</b>{' '}
            {picked && l.user ? (
              <button type="button" className="btn btn-link btn-sm p-0" onClick={() => picked(l.user!)}>
                {l.address}
              </button>
            ) : (
              l.address
            )}{' '}
            <span className="quiet">{when(l.at)}</span>
            {l.detail && <span className="sub">{l.detail}</span>}
          </span>
        </li>
      ))}
    </ul>
  )
}
