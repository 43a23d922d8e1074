import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, Failure, type Rule } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Chips } from '../parts/Chips'
import { idOf } from '../parts/ids'
import { against } from '../places/ValueTable'

/** Makes an id of a reason: its first words. */
const idOfReason = (reason: string) => idOf(reason).slice(0, 40).replace(/-$/, '') || 'exception'

/** Makes something under a name, or where that is taken under the name with a number. */
async function named<T>(id: string, make: (id: string) => Promise<T>): Promise<T> {
  for (let n = 1; ; n++) {
    try {
      return await make(n === 1 ? id : `${id}-${n}`)
    } catch (e) {
      if (n === 9 || !(e instanceof Failure) || e.problem.status !== 409 || !e.problem.detail?.includes('already')) throw e
    }
  }
}

/** An exception for people and groups: one or several values, towards whom, until when and why. */
export function Make({
  person,
  people: first,
  rules: given,
  close,
  done,
}: {
  person: string
  people?: string[]
  rules?: string[]
  close: () => void
  done: () => void
}) {
  const [people, setPeople] = useState<string[]>(first ?? (person ? [person] : []))
  const [groups, setGroups] = useState<string[]>([])
  const [parties, setParties] = useState<string[]>([])
  const [values, setValues] = useState<{ rule: string; value: string }[]>(
    given?.length ? given.map((rule) => ({ rule, value: '' })) : [{ rule: '', value: '' }],
  )
  const [until, setUntil] = useState('+14d')
  const [reason, setReason] = useState('')
  const rules = useQuery({ queryKey: ['rules', ''], queryFn: () => call('GET /api/v1/rules') })
  const able = (rules.data?.rules ?? []).filter((r) => r.layers.includes('people'))
  const save = useMutation({
    mutationFn: () =>
      named(idOfReason(reason), (id) =>
        call('POST /api/v1/exceptions', {
          body: {
            id,
            people,
            groups,
            ...(parties.length ? { parties } : {}),
            rules: Object.fromEntries(values.filter((v) => v.rule && v.value).map((v) => [v.rule, { value: v.value }])),
            ...(until.trim() ? { until: until.trim() } : {}),
            reason,
            why: reason,
          },
        }),
      ),
    onSuccess: () => {
      done()
      close()
    },
  })
  const set = (i: number, x: Partial<{ rule: string; value: string }>) => setValues(values.map((v, k) => (k === i ? { ...v, ...x } : v)))
  const chosen = values.map((v) => v.rule)
  // What is asked beside a rule, and without which it alone may change nothing.
  const beside = [...new Set(values.flatMap((v) => able.find((r) => r.name === v.rule)?.with ?? []))].filter((w) => !chosen.includes(w))
  return (
    <AskDialog
      policy
      wide
      scrollable
      title="Make an exception"
      leave="Cancel"
      submit="Make it"
      disabled={save.isPending || people.length + groups.length === 0 || values.every((v) => !v.rule || !v.value)}
      error={save.error}
      close={close}
      onSubmit={() => save.mutate()}
    >
      <Chips label="People of ours" kind="person" values={people} onChange={setPeople} hint="by name" />
      <Chips label="Groups of ours" kind="group" values={groups} onChange={setGroups} hint="by name" />
      <Chips
        label="Only towards; leave empty for everybody"
        kind="party"
        values={parties}
        onChange={setParties}
        hint="partner, domain, group or address"
      />
      {values.map((v, i) => (
        <OneValue
          key={i}
          n={i}
          v={v}
          able={able.filter((r) => r.name === v.rule || !chosen.includes(r.name))}
          person={people[0] ?? ''}
          set={(x) => set(i, x)}
          remove={values.length > 1 ? () => setValues(values.filter((_, k) => k !== i)) : undefined}
        />
      ))}
      {beside.length > 0 && (
        <p className="quiet">
          It may change nothing without{' '}
          {beside.map((w) => (
            <Button key={w} size="sm" variant="link" onClick={() => setValues([...values, { rule: w, value: '' }])}>
              {able.find((r) => r.name === w)?.title ?? w}
            </Button>
          ))}
        </p>
      )}
      <Button size="sm" variant="outline-primary" className="mb-2" onClick={() => setValues([...values, { rule: '', value: '' }])}>
        Another rule
      </Button>
      <Form.Group controlId="e-until" className="mb-2">
        <Form.Label>Until</Form.Label>
        <Form.Control size="sm" value={until} onChange={(e) => setUntil(e.target.value)} aria-describedby="e-until-h" />
        <Form.Text id="e-until-h">A date, days from today as +14d, or empty for no end.</Form.Text>
      </Form.Group>
      <Form.Group controlId="e-reason">
        <Form.Label>Reason</Form.Label>
        <Form.Control size="sm" value={reason} required onChange={(e) => setReason(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}

/** One rule of an exception, and its value. */
function OneValue({
  n,
  v,
  able,
  person,
  set,
  remove,
}: {
  n: number
  v: { rule: string; value: string }
  able: Rule[]
  person: string
  set: (x: { rule?: string; value?: string }) => void
  remove?: () => void
}) {
  const choices = useQuery({
    queryKey: ['choices', v.rule, person],
    queryFn: () => call('GET /api/v1/choices', { query: { rule: v.rule, person } }),
    enabled: v.rule !== '' && person !== '',
    retry: false,
  })
  const chosen = able.find((r) => r.name === v.rule)
  const options = choices.data?.choices ?? chosen?.values.map((x) => ({ value: x.value, sentence: x.sentence, can: true }))
  const free = chosen && (chosen.shape === 'days' || chosen.shape === 'methods')
  return (
    <div className="exception-value">
      <Form.Group controlId={`e-rule-${n}`} className="mb-1">
        <Form.Label>Rule</Form.Label>
        <div className="inline-form">
          <Form.Select size="sm" required value={v.rule} onChange={(e) => set({ rule: e.target.value, value: '' })}>
            <option value="">Choose a rule</option>
            {able.map((r) => (
              <option key={r.name} value={r.name}>
                {r.title} ({r.name})
              </option>
            ))}
          </Form.Select>
          {remove && (
            <Button size="sm" variant="link" onClick={remove} aria-label={`Without ${chosen?.title ?? 'this rule'}`}>
              ✕
            </Button>
          )}
        </div>
      </Form.Group>
      {free && (
        <Form.Group controlId={`e-value-${n}`} className="mb-2">
          <Form.Label>Value</Form.Label>
          <Form.Control size="sm" required value={v.value} onChange={(e) => set({ value: e.target.value })} />
        </Form.Group>
      )}
      {chosen && !free && (
        <fieldset className="choose">
          <legend>Value</legend>
          {options?.map((c) => (
            <Form.Check
              key={c.value}
              type="radio"
              name={`e-value-${n}`}
              id={`e-v-${n}-${c.value}`}
              required
              checked={v.value === c.value}
              disabled={!c.can && 'by' in c && c.by === 'limit'}
              onChange={() => set({ value: c.value })}
              label={
                <>
                  <b>{c.value}</b> {c.sentence} {!c.can && 'by' in c && <span className="held">{against(c)}</span>}
                </>
              }
            />
          ))}
        </fieldset>
      )}
    </div>
  )
}
