import { useMutation, useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useSearchParams } from 'react-router'
import { call, linked } from '../api'
import { Wrong } from '../parts/bits'
import { ListImport } from './ListImport'
import { useRefresh } from '../parts/change'

/** Domains and addresses that never get in, whatever any rule says. */
export function Bars({ keep }: { keep: boolean }) {
  const refresh = useRefresh()
  const bars = useQuery({ queryKey: ['bars'], queryFn: () => call('GET /api/v1/bars') })
  const [params] = useSearchParams()
  const wanted = params.get('bar') ?? '' // somebody came here to bar it
  const [what, setWhat] = useState(wanted)
  const form = useRef<HTMLFormElement>(null)
  useEffect(() => {
    if (wanted) form.current?.querySelector<HTMLInputElement>('[aria-label="Why it is barred"]')?.focus()
  }, [wanted])
  const [sub, setSub] = useState(false)
  const [reason, setReason] = useState('')
  const [taking, setTaking] = useState<'barred' | 'personal'>()
  const done = () => refresh()
  const add = useMutation({
    mutationFn: () =>
      call('POST /api/v1/bars', {
        body: {
          ...(what.includes('@') ? { address: what.trim() } : { name: what.trim(), subdomains: sub }),
          ...(reason ? { reason } : {}),
        },
      }),
    onSuccess: () => {
      setWhat('')
      setSub(false)
      setReason('')
      void done()
    },
  })
  const lift = useMutation({
    mutationFn: (key: string) => call('DELETE /api/v1/bars/{key}', { path: { key } }),
    onSuccess: () => void done(),
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    add.mutate()
  }
  return (
    <section className="bars" aria-labelledby="h-bars">
      <h2 id="h-bars">Barred</h2>
      {(bars.error ?? add.error ?? lift.error) && <Wrong error={bars.error ?? add.error ?? lift.error} />}
      <ul className="domains">
        {bars.data?.bars.map((b) => {
          const key = b.address ?? b.name ?? ''
          return (
            <li key={key}>
              <span>
                <b>{key}</b>
                {b.subdomains ? ' and below' : ''} <span className="quiet">{b.reason}</span>
              </span>
              {keep && (
                <Button size="sm" variant="link" onClick={() => lift.mutate(key)} aria-label={`Lift the bar on ${key}`}>
                  Lift
                </Button>
              )}
            </li>
          )
        })}
        {bars.data?.bars.length === 0 && <li>Nothing is barred.</li>}
      </ul>
      {keep && (
        <Form ref={form} className="inline-form" onSubmit={submit} aria-label="Bar a domain or an address">
          <Form.Control
            size="sm"
            aria-label="Domain or address to bar"
            placeholder="domain or address"
            required
            value={what}
            onChange={(e) => setWhat(e.target.value)}
          />
          <Form.Check id="b-sub" label="and below" checked={sub} disabled={what.includes('@')} onChange={(e) => setSub(e.target.checked)} />
          <Form.Control
            size="sm"
            aria-label="Why it is barred"
            placeholder="why"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <Button size="sm" type="submit" variant="outline-primary" disabled={add.isPending}>
            Bar
          </Button>
        </Form>
      )}
      <p className="lists">
        <a href={linked('GET /api/v1/domains', { query: { list: 'barred' } })} download="barred.csv">
          All that is barred as CSV
        </a>
        <a href={linked('GET /api/v1/domains', { query: { list: 'personal' } })} download="personal.csv">
          Domains of private mail as CSV
        </a>
        <a href={linked('GET /api/v1/domains', { query: { list: 'partner' } })} download="partners.csv">
          Domains of partners as CSV
        </a>
        {keep && (
          <>
            <Button size="sm" variant="link" onClick={() => setTaking('barred')}>
              Import barred domains
            </Button>
            <Button size="sm" variant="link" onClick={() => setTaking('personal')}>
              Import domains of private mail
            </Button>
          </>
        )}
      </p>
      {taking && (
        <ListImport
          list={taking}
          title={taking === 'barred' ? 'Import barred domains' : 'Import domains of private mail'}
          close={() => setTaking(undefined)}
        />
      )}
    </section>
  )
}
