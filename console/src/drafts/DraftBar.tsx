import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, useSyncExternalStore } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, Failure } from '../api'
import { when } from '../parts/bits'
import { inDraft, watchDraft, workIn } from './quick'
import { useRefresh } from '../parts/change'

/** Says that this window works in a draft, and leaves it when it is over. */
export function DraftBar() {
  const refresh = useRefresh()
  const d = useSyncExternalStore(watchDraft, inDraft)
  const [gone, setGone] = useState('')
  const draft = useQuery({
    queryKey: ['draft', d?.id ?? ''],
    queryFn: () => call('GET /api/v1/drafts/{id}', { path: { id: d!.id } }),
    enabled: d !== null,
    retry: false,
  })
  const over =
    d !== null &&
    (draft.data?.state === 'published' ||
      draft.data?.state === 'dropped' ||
      (draft.error instanceof Failure && draft.error.problem.status === 404))
  const fresh = () => void refresh()
  useEffect(() => {
    if (!over || !d) return
    setGone(
      `The draft ${d.name} is ${draft.data?.state === 'published' ? `published as revision ${draft.data.published}` : 'given up'}; you see what is in force.`,
    )
    workIn(null)
    fresh()
  })
  if (!d)
    return gone ? (
      <div className="draft-bar" role="status">
        <span>{gone}</span>
        <Button size="sm" variant="outline-dark" onClick={() => setGone('')}>
          Understood
        </Button>
      </div>
    ) : null
  return (
    <div className="draft-bar" role="status">
      <span>
        You are in the draft <Link to={`/drafts/${d.id}`}>{d.name}</Link>: changes of rules, partners, domains and exceptions go into it,
        and what you ask is answered as it would be. Guests, spaces and links change at once.
        {draft.data?.state === 'set' &&
          ` It is set to be published ${when(draft.data.weighed?.publish_at ?? '')}: a change opens it again, and then nothing is published until it is weighed anew.`}
        {draft.data?.state === 'waiting' &&
          ' It waits for confirmation: a change opens it again, and it has to be weighed and confirmed anew.'}
        {draft.data?.state === 'open' && draft.data.note && ` It is open again: ${draft.data.note}.`}
        {(draft.data?.conflicts.length ?? 0) > 0 && ' Something it changes was changed meanwhile: decide on its page first.'}
      </span>
      <Button
        size="sm"
        variant="outline-dark"
        onClick={() => {
          workIn(null)
          fresh()
        }}
      >
        Leave the draft
      </Button>
    </div>
  )
}
