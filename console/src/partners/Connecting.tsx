import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type Partner, type TheirStatement } from '../api'
import { when, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'

export function AdviceBox({ id }: { id: string }) {
  const { data, error } = useQuery({ queryKey: ['advice', id], queryFn: () => call('GET /api/v1/partners/{id}/advice', { path: { id } }) })
  const [all, setAll] = useState(false)
  if (error) return <Wrong error={error} />
  if (!data) return null
  return (
    <section aria-labelledby="h-advice">
      <h2 id="h-advice">How to connect</h2>
      <p>{data.short}</p>
      {data.ways
        .filter((w) => all || w.fits || w.in_use)
        .map((w) => (
          <div key={w.name} className="way">
            <b>
              {w.fits ? '▲ ' : '· '}
              {w.title}
            </b>
            {w.in_use && <span className="tag">in use</span>}
            {w.name !== 'guests' && (
              <>
                {' '}
                <Link to={`/partners/${id}/connect?way=${w.name}`}>{w.in_use ? 'How it stands' : 'Connect them so'}</Link>
              </>
            )}
            <ul>
              {w.for.map((t) => (
                <li key={t}>+ {t}</li>
              ))}
              {w.against.map((t) => (
                <li key={t}>− {t}</li>
              ))}
            </ul>
            {all && (
              <p className="quiet">
                {w.gives} {w.costs} Needs {w.needs}.
              </p>
            )}
          </div>
        ))}
      <Button size="sm" variant="link" onClick={() => setAll(!all)} aria-expanded={all}>
        {all ? 'Less' : 'All ways, with what they give and cost'}
      </Button>
      <p className="quiet">
        In 90 days {data.figures.came} came and {data.figures.went} went. What ours do at theirs leaves no trace here and is not looked at.
      </p>
    </section>
  )
}

export function StatementBox({ p, keep, admin }: { p: Partner; keep: boolean; admin: boolean }) {
  const client = useQueryClient()
  const refresh = useRefresh()
  const st = useQuery({
    queryKey: ['statement', p.id, p.statement],
    queryFn: () => call('GET /api/v1/partners/{id}/statement', { path: { id: p.id } }),
  })
  const fresh = (x: TheirStatement) => {
    void refresh('statement')
    client.setQueryData(['statement', p.id, p.statement], x)
  }
  const fetch = useMutation({ mutationFn: () => call('POST /api/v1/partners/{id}/statement', { path: { id: p.id } }), onSuccess: fresh })
  const accept = useMutation({
    mutationFn: (key: string) =>
      call('PUT /api/v1/partners/{id}/statement/key', { path: { id: p.id }, body: { key, why: 'confirmed by another way' } }),
    onSuccess: () => fetch.mutate(),
  })
  const x = st.data
  return (
    <section aria-labelledby="h-statement">
      <h2 id="h-statement">Their signed statement</h2>
      {(st.error ?? fetch.error ?? accept.error) && <Wrong error={st.error ?? fetch.error ?? accept.error} />}
      {!p.statement && <p className="quiet">They publish none that we know of.</p>}
      {p.statement && x && (
        <>
          <dl className="facts">
            <dt>Published at</dt>
            <dd>{p.statement}</dd>
            {x.issued && (
              <>
                <dt>Taken</dt>
                <dd>
                  of {when(x.issued)}, good until {x.until && when(x.until)}
                </dd>
              </>
            )}
          </dl>
          {x.problem && (
            <p className="gets-no" role="status">
              ▼ Not taken: {x.reason}
            </p>
          )}
          <div className="inline-form mt-2">
            {keep && (
              <Button size="sm" variant="outline-primary" onClick={() => fetch.mutate()} disabled={fetch.isPending}>
                Fetch now
              </Button>
            )}
            {admin && x.offered && (
              <Button size="sm" variant="outline-danger" onClick={() => accept.mutate(x.offered!)} disabled={accept.isPending}>
                Their administrator confirmed this key
              </Button>
            )}
          </div>
        </>
      )}
    </section>
  )
}
