import { call, type Partner } from '../api'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { useNavigate } from 'react-router'
import { idOf } from '../parts/ids'

export function AddPartner({ close }: { close: () => void }) {
  const [id, setID] = useState('')
  const [name, setName] = useState('')
  const [domains, setDomains] = useState('')
  const [alike, setAlike] = useState(false)
  const [why, setWhy] = useState('')
  const client = useQueryClient()
  const navigate = useNavigate()
  const [weighed, setWeighed] = useState<Partner>()
  const post = (preview: boolean) =>
    call('POST /api/v1/partners', {
      query: { preview },
      body: {
        id,
        name,
        domains: domains
          .split(/[\s,]+/)
          .filter(Boolean)
          .map((d) => ({
            ...(d.startsWith('*.') ? { name: d.slice(2), subdomains: true } : { name: d }),
            ...(alike ? { look_alike: true } : {}),
          })),
        ...(why ? { why } : {}),
      },
    })
  const add = useMutation({
    // Somebody is told first whom it concerns; where that is nobody, it is done at once.
    mutationFn: async (sure: boolean) => {
      if (!sure) {
        const would = await post(true)
        if ((would.concerns?.guests ?? 0) > 0) return { would }
      }
      return { made: await post(false) }
    },
    onSuccess: ({ would, made }) => {
      if (would) setWeighed(would)
      if (!made) return
      void client.invalidateQueries()
      navigate(`/partners/${made.id}`)
    },
  })
  const looksAlike = alike || (add.error instanceof Error && add.error.message.includes('looks like'))
  return (
    <AskDialog
      policy
      title="Add a partner"
      leave="Cancel"
      submit={weighed ? 'Add all the same' : 'Add'}
      disabled={add.isPending}
      error={add.error}
      close={close}
      onSubmit={() => add.mutate(weighed !== undefined)}
    >
      <div onChange={() => setWeighed(undefined)}>
        <Form.Group controlId="p-name" className="mb-3">
          <Form.Label>Name</Form.Label>
          <Form.Control
            autoFocus
            required
            value={name}
            onChange={(e) => {
              setName(e.target.value)
              setID(idOf(e.target.value))
            }}
          />
        </Form.Group>
        <Form.Group controlId="p-id" className="mb-3">
          <Form.Label>Id</Form.Label>
          <Form.Control required pattern="[a-z0-9][a-z0-9._\-]*" value={id} onChange={(e) => setID(e.target.value)} />
          <Form.Text>Lower-case letters, digits, dots, hyphens. It stays.</Form.Text>
        </Form.Group>
        <Form.Group controlId="p-domains" className="mb-3">
          <Form.Label>Domains</Form.Label>
          <Form.Control
            as="textarea"
            rows={2}
            value={domains}
            onChange={(e) => setDomains(e.target.value)}
            placeholder="quayside.example, *.lab.quayside.example"
          />
          <Form.Text>*. takes the domains below along.</Form.Text>
          {looksAlike && (
            <Form.Check
              id="p-alike"
              label="It looks like another domain and is meant all the same"
              checked={alike}
              onChange={(e) => setAlike(e.target.checked)}
            />
          )}
        </Form.Group>
        <Form.Group controlId="p-why">
          <Form.Label>Why</Form.Label>
          <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} />
        </Form.Group>
        {weighed?.concerns && (
          <p className="weighed mt-3" role="status">
            <b>{weighed.concerns.guests} guests</b> with {weighed.concerns.grants} grants in {weighed.concerns.spaces} spaces would become
            people of {weighed.name}.
          </p>
        )}
      </div>
    </AskDialog>
  )
}
