import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { call, type Bundle } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { AskForBundle } from './AskFor'
import { MakeBundle } from './MakeBundle'
import { approvedBy, whoseAsk } from './words'

/** Sets of access that people outside ask for, and that are given for a time. */
export function BundlesPage({ role }: { role: string }) {
  const refresh = useRefresh()
  const navigate = useNavigate()
  const [making, setMaking] = useState(false)
  const [asking, setAsking] = useState<Bundle>()
  const [sent, setSent] = useState('')
  const reads = role !== 'member'
  const list = useQuery({ queryKey: ['bundles'], queryFn: () => call('GET /api/v1/bundles') })
  const may = role === 'administrator' || role === 'keeper'
  const all = list.data?.bundles ?? []
  return (
    <Page
      title="Bundles"
      lead="Sets of access that people outside ask for, and that are given for a time. Whoever holds one has what it gives now: changing a bundle changes that for all of them, and a draft says for whom."
      tools={
        may ? (
          <Button size="sm" onClick={() => setMaking(true)}>
            Make a bundle
          </Button>
        ) : undefined
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading" />}
      {list.data && all.length === 0 && (
        <Empty>There is no bundle yet. Make one of what people outside keep asking for, and they ask for it themselves at the door.</Empty>
      )}
      {all.length > 0 && (
        <table className="table bundles">
          <thead>
            <tr>
              <th scope="col">Bundle</th>
              <th scope="col">What it gives</th>
              <th scope="col">Who may ask</th>
              <th scope="col">Approved by</th>
              <th scope="col" className="number">
                Held by
              </th>
              <th scope="col" className="number">
                Asked for
              </th>
              {role !== 'auditor' && (
                <th scope="col">
                  <span className="visually-hidden">Actions</span>
                </th>
              )}
            </tr>
          </thead>
          <tbody>
            {all.map((b) => (
              <tr key={b.id} className={b.closed ? 'is-off' : undefined}>
                <th scope="row">{reads ? <Link to={`/bundles/${b.id}`}>{b.name}</Link> : b.name}</th>
                <td>{b.gives.map((g) => `${g.name}: ${g.role}`).join(', ')}</td>
                <td>{whoseAsk(b)}</td>
                <td>{approvedBy(b)}</td>
                <td className="number">{b.held}</td>
                <td className="number">{b.asked}</td>
                {role !== 'auditor' && (
                  <td>
                    {!b.closed && (
                      <Button size="sm" variant="outline-primary" aria-label={`Ask for somebody: ${b.name}`} onClick={() => setAsking(b)}>
                        Ask for somebody
                      </Button>
                    )}
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {sent && (
        <p className="sent" role="status">
          {sent}
        </p>
      )}
      {asking && (
        <AskForBundle
          b={asking}
          close={(r) => {
            setAsking(undefined)
            if (r) setSent(`Sent to ${r.to_names.join(', ')}. Under Today you hear what becomes of it.`)
          }}
        />
      )}
      {making && (
        <MakeBundle
          close={() => setMaking(false)}
          done={(id) => {
            void refresh()
            navigate(`/bundles/${id}`)
          }}
        />
      )}
    </Page>
  )
}
