import { useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { call } from '../api'
import { useTake } from '../drafts/take'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'

const n = (x: number) => x.toLocaleString('en-GB')

/** What is allowed and nobody uses, and what goes with it. */
export function SparePage({ role }: { role: string }) {
  const found = useQuery({ queryKey: ['spare'], queryFn: () => call('GET /api/v1/spare') })
  const take = useTake('POST /api/v1/spare/draft', () => ({}))
  const x = found.data
  const may = role === 'administrator' || role === 'keeper'
  const limits = x?.parts.filter((p) => p.kind === 'limit') ?? []
  const openings = x?.parts.filter((p) => p.kind === 'opening') ?? []
  return (
    <Page
      title="Spare access"
      lead="What is allowed and nobody uses: limits looser than any value below them, and openings through which nobody comes, newcomers included. Without it, nobody loses anything today."
      tools={
        may && x && x.parts.length > 0 ? (
          <Button size="sm" disabled={take.isPending} onClick={() => take.mutate(undefined)}>
            Make a draft that takes it away
          </Button>
        ) : undefined
      }
    >
      {found.error && <Wrong error={found.error} retry={() => void found.refetch()} />}
      {take.error && <Wrong error={take.error} />}
      {!x && !found.error && <Waiting what="Trying what nobody would miss" />}
      {x && x.parts.length === 0 && <Empty>Everything that is allowed is used.</Empty>}
      {x && x.parts.length > 0 && (
        <>
          {x.could !== undefined && (
            <p className="figures" role="status">
              Without an administrator or keeper, <b>{n(x.could)}</b> answers are or could become yes. Without what is spare it would be{' '}
              <b>{n(x.afterwards ?? 0)}</b>; <b>{n(x.parties ?? 0)}</b> known guests and others could come to less.
            </p>
          )}
          {limits.length > 0 && (
            <section aria-labelledby="h-limits">
              <h2 id="h-limits">Limits that can be lower</h2>
              <div className="wide" role="region" aria-label="Limits" tabIndex={0}>
                <table className="table listing">
                  <thead>
                    <tr>
                      <th scope="col">Rule</th>
                      <th scope="col">The loosest that anybody uses</th>
                    </tr>
                  </thead>
                  <tbody>
                    {limits.map((p) => (
                      <tr key={p.text}>
                        <th scope="row">
                          <Link to={`/rules?rule=${p.rule}`}>{p.rule}</Link>
                        </th>
                        <td>{p.value}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            </section>
          )}
          {openings.length > 0 && (
            <section aria-labelledby="h-openings">
              <h2 id="h-openings">Openings through which nobody comes</h2>
              <ul>
                {openings.map((p) => (
                  <li key={p.text}>
                    <Link to={`/partners/${p.partner}`}>{p.partner}</Link>: {p.key}
                  </li>
                ))}
              </ul>
            </section>
          )}
        </>
      )}
    </Page>
  )
}
