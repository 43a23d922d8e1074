import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { call, query, type Choices, type Exception, type Rule } from '../api'
import { against } from '../places/ValueTable'

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

export function Make({ person, close, done }: { person: string; close: () => void; done: () => void }) {
  const [id, setId] = useState('')
  const [people, setPeople] = useState(person)
  const [groups, setGroups] = useState('')
  const [parties, setParties] = useState('')
  const [rule, setRule] = useState('')
  const [value, setValue] = useState('')
  const [until, setUntil] = useState('+14d')
  const [reason, setReason] = useState('')
  const rules = useQuery({ queryKey: ['rules', ''], queryFn: () => call<{ rules: Rule[] }>('GET', '/api/v1/rules') })
  const able = (rules.data?.rules ?? []).filter((r) => r.layers.includes('people'))
  const first = words(people)[0] ?? ''
  const choices = useQuery({
    queryKey: ['choices', rule, first],
    queryFn: () => call<Choices>('GET', `/api/v1/choices${query({ rule, person: first })}`),
    enabled: rule !== '' && first !== '',
    retry: false,
  })
  const save = useMutation({
    mutationFn: () =>
      call<Exception>('POST', '/api/v1/exceptions', {
        id: id.trim(),
        people: words(people),
        groups: words(groups),
        ...(words(parties).length ? { parties: words(parties) } : {}),
        rules: { [rule]: { value } },
        ...(until.trim() ? { until: until.trim() } : {}),
        reason,
        why: reason,
      }),
    onSuccess: () => {
      done()
      close()
    },
  })
  const chosen = able.find((r) => r.name === rule)
  const options = choices.data?.choices ?? chosen?.values.map((v) => ({ value: v.value, sentence: v.sentence, can: true }))
  const field = (cid: string, label: string, v: string, set: (v: string) => void, hint?: string, required = false) => (
    <Form.Group controlId={cid} className="mb-2">
      <Form.Label>{label}</Form.Label>
      <Form.Control size="sm" value={v} required={required} onChange={(e) => set(e.target.value)} aria-describedby={hint ? `${cid}-h` : undefined} />
      {hint && (
        <p className="quiet" id={`${cid}-h`}>
          {hint}
        </p>
      )}
    </Form.Group>
  )
  return (
    <AskDialog policy scrollable title="Make an exception" leave="Cancel" submit="Make it" disabled={save.isPending} error={save.error} close={close} onSubmit={() => save.mutate()}>
      {field('e-id', 'Id', id, setId, 'Small letters, digits, dots and dashes.', true)}
      {field('e-people', 'People of ours', people, setPeople, 'Their ids, separated by blanks.')}
      {field('e-groups', 'Groups of ours', groups, setGroups)}
      {field('e-parties', 'Only towards', parties, setParties, 'partner:ID, domain:NAME, group:ID or addresses; empty is everybody.')}
      <Form.Group controlId="e-rule" className="mb-2">
        <Form.Label>Rule</Form.Label>
        <Form.Select
          size="sm"
          required
          value={rule}
          onChange={(e) => {
            setRule(e.target.value)
            setValue('')
          }}
        >
          <option value="">Choose a rule</option>
          {able.map((r) => (
            <option key={r.name} value={r.name}>
              {r.title} ({r.name})
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      {chosen && (chosen.shape === 'days' || chosen.shape === 'methods') && field('e-value', 'Value', value, setValue, undefined, true)}
      {chosen && chosen.shape !== 'days' && chosen.shape !== 'methods' && (
        <fieldset className="choose">
          <legend>Value</legend>
          {options?.map((c) => (
            <Form.Check
              key={c.value}
              type="radio"
              name="e-value"
              id={`e-v-${c.value}`}
              required
              checked={value === c.value}
              disabled={!c.can && 'by' in c && c.by === 'limit'}
              onChange={() => setValue(c.value)}
              label={
                <>
                  <b>{c.value}</b> {c.sentence} {!c.can && 'by' in c && <span className="held">{against(c)}</span>}
                </>
              }
            />
          ))}
        </fieldset>
      )}
      {field('e-until', 'Until', until, setUntil, 'A date, days from today as +14d, or empty for no end.')}
      {field('e-reason', 'Reason', reason, setReason, undefined, true)}
    </AskDialog>
  )
}
