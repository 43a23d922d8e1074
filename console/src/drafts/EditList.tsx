import { Button } from 'react-bootstrap'
import { type DraftEdit } from '../api'
import { Capped } from '../parts/Capped'

/** What edits of policy change, field by field. */
export function EditList({ edits, undo, busy }: { edits: DraftEdit[]; undo?: (e: DraftEdit) => void; busy?: boolean }) {
  return (
    <ul className="edits">
      {edits.map((e) => (
        <li key={`${e.kind} ${e.id}`}>
          <div className="edit-head">
            <b>{e.title}</b>
            {e.by && (
              <span className="quiet">
                {' '}
                {e.by}
                {e.why ? `: ${e.why}` : ''}
              </span>
            )}
            {undo && (
              <Button size="sm" variant="outline-secondary" disabled={busy} onClick={() => undo(e)} aria-label={`Undo: ${e.title}`}>
                Undo
              </Button>
            )}
          </div>
          <Capped list={e.changes} first={12}>
            {(shown) => (
              <dl>
                {shown.map((c, i) => (
                  <div key={i}>
                    <dt>{c.field}</dt>
                    <dd>
                      {c.was && <del>{c.was}</del>} {c.now && <ins>{c.now}</ins>}
                    </dd>
                  </div>
                ))}
              </dl>
            )}
          </Capped>
        </li>
      ))}
    </ul>
  )
}
