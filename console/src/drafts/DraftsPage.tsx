import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useLocation, useNavigate } from 'react-router'
import { call } from '../api'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { workIn } from './quick'
import { useRefresh } from '../parts/change'

const states = { open: 'open', waiting: 'waits for confirmation', set: 'set to be published', published: 'published', dropped: 'given up' }

/** Drafts, and what was published as a line of time. */
export function DraftsPage({ role }: { role: string }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [name, setName] = useState('')
  const drafts = useQuery({ queryKey: ['drafts'], queryFn: () => call('GET /api/v1/drafts') })
  const make = useMutation({
    mutationFn: () => call('POST /api/v1/drafts', { body: { name: name.trim() } }),
    onSuccess: (d) => {
      void client.invalidateQueries({ queryKey: ['drafts'] })
      workIn({ id: d.id, name: d.name })
      navigate(`/drafts/${d.id}`)
    },
  })
  const given = (useLocation().state as { dropped?: { id: string; name: string } } | null)?.dropped
  const restore = useMutation({
    mutationFn: (id: string) => call('POST /api/v1/drafts/{id}/restore', { path: { id }, body: {} }),
    onSuccess: (d) => {
      void client.invalidateQueries({ queryKey: ['drafts'] })
      navigate(`/drafts/${d.id}`, { replace: true })
    },
  })
  const may = role === 'administrator' || role === 'keeper'
  return (
    <Page title="Drafts" lead="Change policy in a draft: edit, see who gains and who loses access, publish, and revert when you need to.">
      {drafts.error && <Wrong error={drafts.error} retry={() => void drafts.refetch()} />}
      {drafts.isLoading && <Waiting what="Reading drafts" />}
      {may && (
        <Form
          className="inline-form"
          aria-label="A new draft"
          onSubmit={(e) => {
            e.preventDefault()
            make.mutate()
          }}
        >
          <Form.Control
            size="sm"
            aria-label="Name of the draft"
            placeholder="Name of a new draft"
            value={name}
            maxLength={120}
            onChange={(e) => setName(e.target.value)}
          />
          <Button size="sm" type="submit" disabled={name.trim() === '' || make.isPending}>
            Begin a draft
          </Button>
        </Form>
      )}
      {make.error && <Wrong error={make.error} />}
      {given && may && (
        <p role="status" className="way-back">
          {given.name} is given up.{' '}
          <Button size="sm" variant="link" disabled={restore.isPending} onClick={() => restore.mutate(given.id)}>
            Take it back
          </Button>
        </p>
      )}
      {restore.error && <Wrong error={restore.error} />}
      {drafts.data && drafts.data.drafts.length === 0 && (
        <Empty>No draft is open. Begin one, or change something anywhere: a single change shows its impact before it is published.</Empty>
      )}
      {drafts.data && drafts.data.drafts.length > 0 && (
        <div className="wide" role="region" aria-label="Open drafts" tabIndex={0}>
          <table className="table listing drafts">
            <thead>
              <tr>
                <th scope="col">Draft</th>
                <th scope="col">State</th>
                <th scope="col" className="num">
                  Edits
                </th>
                <th scope="col">Made</th>
              </tr>
            </thead>
            <tbody>
              {drafts.data.drafts.map((d) => (
                <tr key={d.id}>
                  <th scope="row">
                    <Link to={`/drafts/${d.id}`}>{d.name}</Link>
                  </th>
                  <td>
                    <span className={`tag is-${d.state}`}>{states[d.state]}</span>{' '}
                    {d.state === 'set' && d.publish_at ? when(d.publish_at) : ''} {d.state === 'waiting' ? `asked by ${d.asked_by}` : ''}
                  </td>
                  <td className="num">{d.edits}</td>
                  <td>
                    {when(d.made)} by {d.made_by}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <TwoPeople admin={role === 'administrator'} />
      <Revisions role={role} />
    </Page>
  )
}

const twoPeople = { never: 'Nobody else', loosening: 'Somebody else, where something is opened', always: 'Somebody else, always' }
type When = keyof typeof twoPeople

/** When somebody else must confirm what is published. */
function TwoPeople({ admin }: { admin: boolean }) {
  const refresh = useRefresh()
  const now = useQuery({ queryKey: ['two-people'], queryFn: () => call('GET /api/v1/two-people') })
  const [to, setTo] = useState<When>()
  const save = useMutation({
    mutationFn: (when: When) => call('PUT /api/v1/two-people', { body: { when } }),
    onSettled: () => refresh(),
    onSuccess: () => setTo(undefined),
  })
  if (!now.data) return null
  return (
    <section aria-labelledby="h-two">
      <h2 id="h-two">Who confirms what is published</h2>
      {save.error && <Wrong error={save.error} />}
      {admin ? (
        <Form
          className="inline-form"
          onSubmit={(e) => {
            e.preventDefault()
            if (to) save.mutate(to)
          }}
        >
          <Form.Select size="sm" aria-label="Who confirms" value={to ?? now.data.when} onChange={(e) => setTo(e.target.value as When)}>
            {Object.entries(twoPeople).map(([k, v]) => (
              <option key={k} value={k}>
                {v}
              </option>
            ))}
          </Form.Select>
          <Button size="sm" type="submit" variant="outline-primary" disabled={!to || to === now.data.when || save.isPending}>
            Change
          </Button>
        </Form>
      ) : (
        <p>{twoPeople[now.data.when]}.</p>
      )}
    </section>
  )
}

/** Published states of policy along a line of time, the newest first. */
function Revisions({ role }: { role: string }) {
  const navigate = useNavigate()
  const pages = useInfiniteQuery({
    queryKey: ['revisions'],
    queryFn: ({ pageParam }) => call('GET /api/v1/revisions', { query: { cursor: pageParam, limit: 50 } }),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
  })
  const back = useMutation({
    mutationFn: (n: number) => call('POST /api/v1/revisions/{number}/back', { path: { number: n }, body: {} }),
    onSuccess: (d) => navigate(`/drafts/${d.id}`),
  })
  const list = pages.data?.pages.flatMap((p) => p.revisions) ?? []
  return (
    <section aria-labelledby="h-revisions">
      <h2 id="h-revisions">Published</h2>
      {pages.error && <Wrong error={pages.error} retry={() => void pages.refetch()} />}
      {back.error && <Wrong error={back.error} />}
      {pages.isLoading && <Waiting what="Reading revisions" />}
      <ol className="revisions">
        {list.map((r, i) => (
          <li key={r.number} className={i === 0 && !pages.isPlaceholderData ? 'is-now' : ''}>
            <span className="revision-knot" aria-hidden="true" />
            <div>
              <Link to={`/revisions/${r.number}`} className="revision-number">
                Revision {r.number}
              </Link>
              {i === 0 && <span className="tag">in force</span>}
              {r.back ? <span className="tag">back to {r.back}</span> : null}
              <span className="revision-at">
                <time dateTime={r.at}>{when(r.at)}</time>, {r.confirmed_by ? `${r.asked_by}, confirmed by ${r.confirmed_by}` : r.who}
              </span>
              <p>
                {r.why || 'No reason was given.'}{' '}
                {r.edits ? (
                  <span className="quiet">
                    {r.draft_name}
                    {r.quick && r.edits === 1 ? '' : ` · ${r.edits === 1 ? '1 edit' : `${r.edits} edits`}`}
                  </span>
                ) : null}
              </p>
            </div>
            {i > 0 && role === 'administrator' && (
              <Button
                size="sm"
                variant="outline-secondary"
                disabled={back.isPending}
                onClick={() => back.mutate(r.number)}
                aria-label={`Go back to it: revision ${r.number}`}
              >
                Go back to it
              </Button>
            )}
          </li>
        ))}
      </ol>
      {pages.hasNextPage && (
        <Button variant="outline-primary" size="sm" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Older revisions
        </Button>
      )}
    </section>
  )
}
