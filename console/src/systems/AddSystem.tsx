import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { call, type SystemView } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { useChange } from '../parts/change'
import { summary } from './words'

/** Adds a system after it was reached. */
export function AddSystem({ close }: { close: () => void }) {
  const go = useNavigate()
  const [f, setF] = useState({ id: '', name: '', dialect: '', address: '', key: '', why: '' })
  const kinds = useQuery({ queryKey: ['dialects'], queryFn: () => call('GET /api/v1/dialects') })
  const test = useChange<SystemView>(() => call('POST /api/v1/systems', { query: { preview: true }, body: f }))
  const add = useChange<SystemView>(
    () => call('POST /api/v1/systems', { body: f }),
    (v) => go(`/systems/${v.id}`),
  )
  const ready = f.id !== '' && f.name !== '' && f.dialect !== '' && f.address !== '' && f.key !== ''
  const field = (key: keyof typeof f, label: string, hint: string) => (
    <Form.Group className="mb-2" controlId={`sy-${key}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Control size="sm" value={f[key]} onChange={(e) => setF({ ...f, [key]: e.target.value })} />
      <Form.Text>{hint}</Form.Text>
    </Form.Group>
  )
  return (
    <AskDialog
      title="Add a system"
      leave="Leave it"
      submit="Add it, and look at it"
      disabled={!ready || f.why.trim() === '' || add.isPending}
      error={add.error ?? test.error}
      close={close}
      onSubmit={() => add.mutate()}
      more={
        <Button variant="outline-primary" disabled={!ready || test.isPending} onClick={() => test.mutate()}>
          Try to reach it
        </Button>
      }
    >
      <p className="quiet">It is read every few minutes. Nothing is written there until you have it carried.</p>
      <Form.Group className="mb-2" controlId="sy-dialect">
        <Form.Label>What it is</Form.Label>
        <Form.Select size="sm" value={f.dialect} onChange={(e) => setF({ ...f, dialect: e.target.value })}>
          <option value="">Choose…</option>
          {kinds.data?.dialects
            .filter((d) => !d.described)
            .map((d) => (
              <option key={d.name} value={d.name}>
                {d.title}
              </option>
            ))}
        </Form.Select>
      </Form.Group>
      <div className="form-row">
        {field('name', 'Name', 'What you call it.')}
        {field('id', 'Id', 'A short name for commands, as files-1.')}
      </div>
      {field('address', 'Address', 'As https://quay.ours.example.')}
      {field(
        'key',
        'Where its key is',
        'On the machine of this service: file:/path/of/a/file or env:NAME. The key itself is never entered here.',
      )}
      {field('why', 'Why', 'For the journal.')}
      {test.data && (
        <p role="status" className="system-says">
          Reached: {test.data.settings.filter((s) => s.there).length} settings are understood
          {test.data.unread.length > 0 ? `, ${test.data.unread.length} are not` : ''}. {summary(test.data).text}
        </p>
      )}
    </AskDialog>
  )
}
