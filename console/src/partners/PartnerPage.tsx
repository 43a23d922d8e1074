import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { useParams } from 'react-router'
import { call, services, type Partner, failed } from '../api'
import { Page, Waiting, when, Wrong } from '../parts/bits'
import { ValueTable } from '../places/ValueTable'
import { PartnerLetters } from './Letters'
import { mayKeep, Standing } from './PartnersPage'
import { useRefresh } from '../parts/change'
import { Merge, Split } from './Rearrange'
import { AskStanding, Edit, Facts } from './EditPartner'
import { Opening, Said, type Says } from './Halves'
import { History, People } from './TheirPeople'
import { Told } from './Told'
import { AdviceBox, StatementBox } from './Connecting'
import { Domains } from './Domains'

/**
 * A partner in the order of the work: who they are, their domains, what is open on both sides, their people,
 * what was asked of them, and what was changed.
 */
export function PartnerPage({ role }: { role: string }) {
  const { id = '' } = useParams()
  const client = useQueryClient()
  const refresh = useRefresh()
  const partner = useQuery({ queryKey: ['partner', id], queryFn: () => call('GET /api/v1/partners/{id}', { path: { id } }) })
  const halves = useQuery({ queryKey: ['halves', id], queryFn: () => call('GET /api/v1/halves', { query: { partner: id } }) })
  const values = useQuery({
    queryKey: ['values', `partner:${id}`],
    queryFn: () => call('GET /api/v1/values/{where}', { path: { where: `partner:${id}` } }),
  })
  const [said, setSaid] = useState<{ key: string; says: Says }>()
  const [undo, setUndo] = useState<string>()
  const [asking, setAsking] = useState<'active' | 'suspended' | 'ended' | 'edit' | 'merge' | 'split'>()
  const done = (p: Partner) => {
    client.setQueryData(['partner', id], p)
    void refresh('partner')
  }
  const open = useMutation({
    mutationFn: ({ key, value }: { key: string; value: boolean | undefined }) => {
      const p = partner.data!
      return call('PATCH /api/v1/partners/{id}', {
        path: { id },
        body: { opened: { [key]: value ?? null } },
        headers: { 'If-Match': p.etag },
      })
    },
    onSuccess: done,
    onError: () => void partner.refetch(),
  })
  const record = useMutation({
    mutationFn: ({ key, says, by, why }: { key: string; says: Says; by: string; why: string }) =>
      call('PUT /api/v1/partners/{id}/stances/{key}', {
        path: { id, key },
        body: { says, why: why || 'recorded by hand', ...(by ? { said_by: by } : {}) },
      }),
    onSuccess: (p, { key }) => {
      setSaid(undefined)
      setUndo(key)
      done(p)
    },
  })
  const takeBack = useMutation({
    mutationFn: (key: string) => call('DELETE /api/v1/partners/{id}/stances/{key}', { path: { id, key } }),
    onSuccess: (p) => {
      setUndo(undefined)
      done(p)
    },
  })
  if (failed(partner))
    return (
      <Page title="Partner">
        <Wrong error={partner.error} retry={() => void partner.refetch()} />
      </Page>
    )
  const p = partner.data
  if (!p) return <Waiting what="Reading the partner" />
  const keep = mayKeep(role)
  const half = new Map((halves.data?.halves ?? []).map((h) => [h.key, h]))
  return (
    <Page
      title={p.name}
      lead={
        <>
          <Standing s={p.standing} /> {p.standing_since && <>since {when(p.standing_since)}</>}
          {p.standing_reason && <>: {p.standing_reason}</>} · {p.counts.guests} guests, {p.counts.grants} grants in {p.counts.spaces} spaces
        </>
      }
      tools={
        keep && (
          <>
            {p.standing === 'active' ? (
              <Button size="sm" variant="outline-danger" onClick={() => setAsking('suspended')}>
                Suspend
              </Button>
            ) : (
              <Button size="sm" onClick={() => setAsking('active')}>
                Bring back
              </Button>
            )}
            {p.standing !== 'ended' && (
              <Button size="sm" variant="outline-secondary" onClick={() => setAsking('ended')}>
                End
              </Button>
            )}
            <Button size="sm" variant="outline-secondary" onClick={() => setAsking('merge')}>
              Merge
            </Button>
            {p.domains.length > 1 && (
              <Button size="sm" variant="outline-secondary" onClick={() => setAsking('split')}>
                Split
              </Button>
            )}
          </>
        )
      }
    >
      {(open.error ?? takeBack.error ?? halves.error) && <Wrong error={open.error ?? takeBack.error ?? halves.error} />}
      {said && (
        <Said
          p={p}
          said={said}
          error={record.error}
          busy={record.isPending}
          close={() => setSaid(undefined)}
          record={(by, why) => record.mutate({ ...said, by, why })}
        />
      )}
      <div className="partner even">
        <section aria-labelledby="h-about">
          <h2 id="h-about">Who they are</h2>
          <Facts p={p} />
          {keep && (
            <Button size="sm" variant="outline-primary" className="mt-2" onClick={() => setAsking('edit')}>
              Change
            </Button>
          )}
        </section>
        <Domains p={p} keep={keep} done={done} />
      </div>
      <div className="partner">
        <div>
          <section aria-labelledby="h-open">
            <h2 id="h-open">What is open, both halves</h2>
            <table className="table openings">
              <thead>
                <tr>
                  <th scope="col">Service</th>
                  <th scope="col">In: theirs come to us</th>
                  <th scope="col">Out: ours go to them</th>
                </tr>
              </thead>
              <tbody>
                {services.map((s) => (
                  <tr key={s}>
                    <th scope="row">{s}</th>
                    {['in', 'out'].map((d) => (
                      <td key={d}>
                        <Opening
                          p={p}
                          h={half.get(`${s}.${d}`)}
                          k={`${s}.${d}`}
                          keep={keep && !open.isPending}
                          set={(value) => open.mutate({ key: `${s}.${d}`, value })}
                          record={(says) => {
                            record.reset()
                            setSaid({ key: `${s}.${d}`, says })
                          }}
                        />
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {undo && (
              <p role="status" className="way-back">
                What they say of {undo} is recorded.{' '}
                <Button size="sm" variant="link" disabled={takeBack.isPending} onClick={() => takeBack.mutate(undo)}>
                  Take it back
                </Button>
              </p>
            )}
            <p className="quiet">Left what we open, right what their own side says; below what the two come to, and how we know.</p>
          </section>
        </div>
        <div>
          <AdviceBox id={p.id} />
          <StatementBox p={p} keep={keep} admin={role === 'administrator'} />
        </div>
      </div>
      <div className="partner">
        <People id={p.id} />
        <Told id={p.id} role={role} />
        <div>
          <PartnerLetters p={p} keep={keep} />
        </div>
      </div>
      <div className="partner">
        <section aria-labelledby="h-rules">
          <h2 id="h-rules">Rules for its people</h2>
          {values.error && <Wrong error={values.error} />}
          {values.data && <ValueTable values={values.data} edit={keep} />}
        </section>
        <History id={p.id} />
      </div>
      {(asking === 'active' || asking === 'suspended' || asking === 'ended') && (
        <AskStanding p={p} standing={asking} close={() => setAsking(undefined)} done={done} />
      )}
      {asking === 'edit' && <Edit p={p} close={() => setAsking(undefined)} done={done} />}
      {asking === 'merge' && <Merge p={p} close={() => setAsking(undefined)} />}
      {asking === 'split' && <Split p={p} close={() => setAsking(undefined)} />}
    </Page>
  )
}
