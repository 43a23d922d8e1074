import { useQueryClient } from '@tanstack/react-query'
import { useSyncExternalStore } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { inDraft, watchDraft, workIn } from './quick'

/** Says that this window works in a draft. */
export function DraftBar() {
  const client = useQueryClient()
  const d = useSyncExternalStore(watchDraft, inDraft)
  if (!d) return null
  return (
    <div className="draft-bar" role="status">
      <span>
        You are in the draft <Link to={`/drafts/${d.id}`}>{d.name}</Link>: what you change goes into it, and what you ask is answered as it would be.
      </span>
      <Button
        size="sm"
        variant="outline-dark"
        onClick={() => {
          workIn(null)
          void client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
        }}
      >
        Leave the draft
      </Button>
    </div>
  )
}
