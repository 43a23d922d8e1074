import { useMutation } from '@tanstack/react-query'
import { useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type Partner } from '../api'
import { Wrong } from '../parts/bits'
import { ListImport } from './ListImport'

export function Domains({ p, keep, done }: { p: Partner; keep: boolean; done: (p: Partner) => void }) {
  const [name, setName] = useState('')
  const [sub, setSub] = useState(false)
  const [alike, setAlike] = useState(false)
  const [taking, setTaking] = useState(false)
  const [weighed, setWeighed] = useState<{ what: 'add' | string; p: Partner }>()
  const weigh = useMutation({
    mutationFn: (what: string) =>
      what === 'add'
        ? call('POST /api/v1/partners/{id}/domains', {
            path: { id: p.id },
            query: { preview: true },
            body: { domain: name, subdomains: sub, look_alike: alike },
          })
        : call('DELETE /api/v1/partners/{id}/domains/{domain}', { path: { id: p.id, domain: what }, query: { preview: true } }),
    onSuccess: (x, what) => setWeighed({ what, p: x }),
  })
  const add = useMutation({
    mutationFn: () =>
      call('POST /api/v1/partners/{id}/domains', { path: { id: p.id }, body: { domain: name, subdomains: sub, look_alike: alike } }),
    onSuccess: (x) => {
      setWeighed(undefined)
      setName('')
      setSub(false)
      setAlike(false)
      done(x)
    },
  })
  const remove = useMutation({
    mutationFn: (d: string) => call('DELETE /api/v1/partners/{id}/domains/{domain}', { path: { id: p.id, domain: d } }),
    onSuccess: (x) => {
      setWeighed(undefined)
      done(x)
    },
  })
  const wrong = weigh.error ?? add.error ?? remove.error
  const looksAlike = alike || (weigh.error instanceof Error && weigh.error.message.includes('looks like'))
  const submit = (e: FormEvent) => {
    e.preventDefault()
    weigh.mutate('add')
  }
  const told = weighed?.p.concerns
  return (
    <section aria-labelledby="h-domains">
      <h2 id="h-domains">Domains</h2>
      {wrong && <Wrong error={wrong} />}
      {weighed && told && (
        <div className="weighed" role="status">
          {weighed.what === 'add' ? `${name} would belong to ${p.name}.` : `${weighed.what} would no longer belong to ${p.name}.`} That
          concerns <b>{told.guests} guests</b> with {told.grants} grants in {told.spaces} spaces.{' '}
          <Button
            size="sm"
            onClick={() => (weighed.what === 'add' ? add.mutate() : remove.mutate(weighed.what))}
            disabled={add.isPending || remove.isPending}
          >
            {weighed.what === 'add' ? 'Add it' : 'Remove it'}
          </Button>{' '}
          <Button size="sm" variant="link" onClick={() => setWeighed(undefined)}>
            Leave it
          </Button>
        </div>
      )}
      <ul className="domains">
        {p.domains.map((d) => (
          <li key={d.name}>
            <span>
              {d.name}
              {d.subdomains ? ' and below' : ''}
            </span>
            {keep && (
              <Button size="sm" variant="link" onClick={() => weigh.mutate(d.name)} aria-label={`Remove ${d.name} from ${p.name}`}>
                Remove
              </Button>
            )}
          </li>
        ))}
        {p.domains.length === 0 && <li>None: nobody is known as theirs.</li>}
      </ul>
      {keep && (
        <Form className="inline-form" onSubmit={submit}>
          <Form.Control
            size="sm"
            aria-label="New domain"
            placeholder="domain.example"
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Form.Check id="d-sub" label="and below" checked={sub} onChange={(e) => setSub(e.target.checked)} />
          {looksAlike && (
            <Form.Check id="d-alike" label="it is meant all the same" checked={alike} onChange={(e) => setAlike(e.target.checked)} />
          )}
          <Button size="sm" type="submit" variant="outline-primary" disabled={weigh.isPending}>
            Add
          </Button>
          <Button size="sm" variant="link" onClick={() => setTaking(true)}>
            Import a list
          </Button>
        </Form>
      )}
      {taking && <ListImport list="partner" partner={p.id} title={`Import domains of ${p.name}`} close={() => setTaking(false)} />}
    </section>
  )
}
