import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams, useSearchParams } from 'react-router'
import { call, type Given } from '../api'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { type KeptKind, kindWords, recordStates, thingText } from './words'
import { Decide, names, type Do } from './DecideRecords'

const shown = ['', 'unknown', 'drift', 'differs', 'open', 'confirmed'] as const

const ways: Record<string, Do[]> = {
  unknown: ['take_over', 'end_there', 'accept'],
  drift: ['put_back', 'take_in', 'accept'],
  differs: ['again'],
}

type RecordState = Given<'GET /api/v1/systems/{id}/records'>['query']['state']

/** What a system keeps of one kind of our inventory, meant and found. */
export function RecordsPage({ role }: { role: string }) {
  const { id = '', kind = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const state = params.get('state') ?? ''
  const [find, setFind] = useState('')
  const [picked, setPicked] = useState<string[]>([])
  const [asking, setAsking] = useState<Do>()
  const system = useQuery({ queryKey: ['system', id], queryFn: () => call('GET /api/v1/systems/{id}', { path: { id } }) })
  const got = useQuery({
    queryKey: ['system-records', id, kind, state, find],
    queryFn: () =>
      call('GET /api/v1/systems/{id}/records', {
        path: { id },
        query: { kind: kind as KeptKind, state: (state || undefined) as RecordState | undefined, q: find, limit: 100 },
      }),
    placeholderData: (old) => old,
    refetchInterval: 10000,
  })
  const words = kindWords[kind as KeptKind]
  const k = system.data?.kinds.find((x) => x.kind === kind)
  const may =
    (role === 'administrator' || (role === 'keeper' && ['guest', 'grant', 'link'].includes(kind))) && (ways[state]?.length ?? 0) > 0
  const list = got.data?.records ?? []
  const chosen = picked.filter((p) => list.some((l) => l.key === p))
  const carried = system.data?.mode === 'carry'
  return (
    <Page
      title={words ? `${words.title} in ${system.data?.name ?? id}` : kind}
      lead={
        <>
          {k?.says} <Link to={`/systems/${id}`}>Back to {system.data?.name ?? 'the system'}</Link>
        </>
      }
    >
      <div className="filters">
        <Form.Select
          size="sm"
          aria-label="Show"
          value={state}
          onChange={(e) => {
            setPicked([])
            setParams(e.target.value ? { state: e.target.value } : {})
          }}
        >
          {shown.map((s) => (
            <option key={s} value={s}>
              {recordStates[s]}
            </option>
          ))}
        </Form.Select>
        <Form.Control
          size="sm"
          aria-label="Find"
          placeholder="find by name or address"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
        {may &&
          ways[state].map((d) => (
            <Button
              key={d}
              size="sm"
              variant="outline-primary"
              disabled={
                list.length === 0 ||
                (!carried && (d === 'end_there' || d === 'put_back' || d === 'again')) ||
                (d === 'take_in' && kind === 'guest')
              }
              onClick={() => setAsking(d)}
            >
              {names[d]} {chosen.length > 0 ? chosen.length : 'all'}
            </Button>
          ))}
      </div>
      {may && !carried && system.data && (
        <p className="quiet">
          {system.data.name} is only looked at: what is there can be taken over or let be, and is changed in its own console.
        </p>
      )}
      {got.error && <Wrong error={got.error} retry={() => void got.refetch()} />}
      {!got.data && !got.error && <Waiting what="Reading what was found" />}
      {got.data && list.length === 0 && (
        <Empty>
          {state === 'unknown'
            ? 'All that it keeps of this kind stands for something here.'
            : state === ''
              ? 'Nothing of this kind needs anybody.'
              : 'Nothing of this kind.'}
        </Empty>
      )}
      {list.length > 0 && (
        <div className="wide" role="region" aria-label="Records" tabIndex={0}>
          <table className="table listing">
            <thead>
              <tr>
                {may && (
                  <th scope="col">
                    <Form.Check
                      aria-label="All of these"
                      checked={chosen.length === list.length}
                      onChange={(e) => setPicked(e.target.checked ? list.map((l) => l.key) : [])}
                    />
                  </th>
                )}
                <th scope="col">Which</th>
                <th scope="col">Meant</th>
                <th scope="col">Found</th>
                <th scope="col">How it stands</th>
              </tr>
            </thead>
            <tbody>
              {list.map((l) => (
                <tr key={l.key}>
                  {may && (
                    <td>
                      <Form.Check
                        aria-label={l.ours ?? l.native ?? ''}
                        checked={picked.includes(l.key)}
                        onChange={(e) => setPicked(e.target.checked ? [...picked, l.key] : picked.filter((p) => p !== l.key))}
                      />
                    </td>
                  )}
                  <th scope="row">
                    {kind === 'guest' && l.ours && l.meant ? (
                      <Link to={`/guests/${encodeURIComponent(l.ours)}`}>{l.ours}</Link>
                    ) : (
                      (l.ours ?? l.found?.address ?? l.native)
                    )}
                    {l.native && <span className="sub">there: {l.native}</span>}
                  </th>
                  <td>{thingText(l.meant)}</td>
                  <td>
                    {thingText(l.found)}
                    {l.by && (l.state === 'unknown' || l.state === 'drift') && <span className="sub">by {l.by}</span>}
                  </td>
                  <td>
                    {state === '' && ways[l.state] ? (
                      <Link to={`?state=${l.state}`}>{recordStates[l.state]}</Link>
                    ) : (
                      (recordStates[l.state] ?? l.state)
                    )}
                    {l.since && <span className="sub">found {when(l.since)}</span>}
                    {l.accepted && <span className="sub">let be until {when(l.accepted)}</span>}
                    {(l.problem || l.cause) && <span className="sub">{l.problem ?? l.cause}</span>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {got.data?.next && (
        <p className="quiet">
          There are more than these {list.length}; find some by name or address. What is done with all is done with those, too.
        </p>
      )}
      {asking && <Decide id={id} kind={kind} does={asking} keys={chosen} close={() => setAsking(undefined)} done={() => setPicked([])} />}
    </Page>
  )
}
