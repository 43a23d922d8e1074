import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { call, type SystemView } from '../api'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { AddSystem } from './AddSystem'
import { modes, numbers, summary } from './words'

export interface AllSystems {
  systems: SystemView[]
  not_looked_at: string[]
}

/** The systems, read again while something is on its way. */
export function useSystems(enabled = true) {
  return useQuery({
    queryKey: ['systems'],
    queryFn: () => call('GET /api/v1/systems'),
    enabled,
    refetchInterval: (q) => (q.state.data?.systems.some((v) => v.open > 0 || v.kinds.some((k) => k.open > 0)) ? 3000 : 20000),
  })
}

export function SystemsPage({ role }: { role: string }) {
  const list = useSystems()
  const [adding, setAdding] = useState(false)
  const xs = list.data?.systems ?? []
  return (
    <Page
      title="Systems"
      lead="The servers that carry the suite. What is published here is meant; what a server holds is found there. A system that is only looked at obeys nobody."
      tools={
        role === 'administrator' && (
          <Button size="sm" onClick={() => setAdding(true)}>
            Add one
          </Button>
        )
      }
    >
      {list.error && <Wrong error={list.error} retry={() => void list.refetch()} />}
      {!list.data && !list.error && <Waiting what="Reading what was found" />}
      {list.data && xs.length === 0 && (
        <Empty>
          No system is known: what is published is an intention.{' '}
          {role === 'administrator' ? 'Add the first one; it is only looked at until you say more.' : 'An administrator adds them.'}
        </Empty>
      )}
      <div className="systems">
        {xs.map((v) => (
          <One key={v.id} v={v} />
        ))}
      </div>
      {list.data && list.data.not_looked_at.length > 0 && xs.length > 0 && (
        <p className="quiet">Not looked at: {list.data.not_looked_at.join(', ')}. What counts there is not known.</p>
      )}
      {adding && <AddSystem close={() => setAdding(false)} />}
    </Page>
  )
}

function One({ v }: { v: SystemView }) {
  const s = summary(v)
  return (
    <section className={`system is-${s.tone}`} aria-labelledby={`sys-${v.id}`}>
      <h2 id={`sys-${v.id}`}>
        <Link to={`/systems/${v.id}`}>{v.name}</Link>
      </h2>
      <p className="quiet">
        {v.title}. {modes[v.mode]} {v.read ? `Read ${when(v.read)}.` : 'Never read.'}
      </p>
      <p className="system-says">{s.text}</p>
      <Differs v={v} />
    </section>
  )
}

/** What a system lets through and refuses besides. */
export function Differs({ v }: { v: SystemView }) {
  return (
    <dl className="facts">
      {v.many && (
        <>
          <dt>Who gains and who loses</dt>
          <dd>is not counted: too many of its records stand otherwise</dd>
        </>
      )}
      <dt>Lets through what is refused here</dt>
      <dd className={numbers(v.beyond) === 'nothing' ? '' : 'gets-no'}>{numbers(v.beyond)}</dd>
      <dt>Refuses what is a yes here</dt>
      <dd>{numbers(v.short)}</dd>
      {numbers(v.unsure) !== 'nothing' && (
        <>
          <dt>Cannot be told for sure</dt>
          <dd>{numbers(v.unsure)}</dd>
        </>
      )}
    </dl>
  )
}
