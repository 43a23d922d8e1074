import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type AllSettings } from '../api'
import { Wrong } from '../parts/bits'
import { Chips } from '../parts/Chips'
import { useChange } from '../parts/change'

type Fields = Record<string, unknown>

/** Domains as they are typed: *. takes those below along. */
const typed = (list: unknown): string[] =>
  ((list as (string | { name: string; subdomains?: string })[] | undefined) ?? []).map((d) =>
    typeof d === 'string' ? d : `${d.subdomains === 'yes' ? '*.' : ''}${d.name}`,
  )

const kept = (list: string[]) => list.map((d) => (d.startsWith('*.') ? { name: d.slice(2), subdomains: 'yes' } : d))

const zones = () => (Intl as unknown as { supportedValuesOf?: (k: string) => string[] }).supportedValuesOf?.('timeZone') ?? []

/** Who we are: name, domains, time zone. */
export function OrganisationForm({ first, x }: { first?: boolean; x?: AllSettings }) {
  const was = (x?.organisation ?? {}) as Fields
  const [f, setF] = useState({
    name: (was.name as string) ?? '',
    domains: typed(was.domains),
    time_zone: (was.time_zone as string) ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
    two_people: (was.two_people as string) ?? 'never',
  })
  const save = useChange(() =>
    call('PATCH /api/v1/settings', {
      body: {
        organisation: { name: f.name.trim(), domains: kept(f.domains), time_zone: f.time_zone, two_people: f.two_people },
        ...(first ? { why: 'the beginning' } : {}),
      },
      headers: x ? { 'If-Match': x.etag } : {},
    }),
  )
  return (
    <Form
      onSubmit={(e) => {
        e.preventDefault()
        save.mutate()
      }}
    >
      {save.error && <Wrong error={save.error} />}
      <Form.Group controlId="org-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control size="sm" required maxLength={200} value={f.name} onChange={(e) => setF({ ...f, name: e.target.value })} />
      </Form.Group>
      <Chips
        label="Our own domains"
        kind="domain"
        values={f.domains}
        onChange={(domains) => setF({ ...f, domains })}
        hint="museum.example; *.museum.example takes those below along"
      />
      <Form.Group controlId="org-zone" className="mb-2">
        <Form.Label>Time zone, in which days are counted</Form.Label>
        <Form.Control size="sm" required list="zones" value={f.time_zone} onChange={(e) => setF({ ...f, time_zone: e.target.value })} />
        <datalist id="zones">
          {zones().map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
      </Form.Group>
      <Form.Group controlId="org-two" className="mb-3">
        <Form.Label>Somebody else must confirm what is published</Form.Label>
        <Form.Select size="sm" value={f.two_people} onChange={(e) => setF({ ...f, two_people: e.target.value })}>
          <option value="never">never</option>
          <option value="loosening">where something is opened</option>
          <option value="always">always</option>
        </Form.Select>
      </Form.Group>
      <Button type="submit" size="sm" disabled={save.isPending || f.name.trim() === '' || f.domains.length === 0}>
        {first ? 'That is us' : 'Save'}
      </Button>
    </Form>
  )
}
