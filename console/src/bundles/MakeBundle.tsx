import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call, type Bundle } from '../api'
import { AskDialog } from '../parts/AskDialog'
import { Chips } from '../parts/Chips'
import { Combo } from '../parts/Combo'
import { roles } from './words'

type Row = { resource: string; name: string; role: string }

/** Makes a bundle, or changes one; in a draft where one is being worked in. */
export function MakeBundle({ b, close, done }: { b?: Bundle; close: () => void; done: (id: string) => void }) {
  const [name, setName] = useState(b?.name ?? '')
  const [gives, setGives] = useState<Row[]>(b ? b.gives.map((g) => ({ ...g })) : [])
  const [adding, setAdding] = useState('')
  const [partners, setPartners] = useState<string[]>(b?.partners ?? [])
  const [others, setOthers] = useState(b?.others ?? false)
  const [closed, setClosed] = useState(b?.closed ?? false)
  const [approval, setApproval] = useState<string[]>(b?.approval ?? ['sponsor'])
  const [person, setPerson] = useState('')
  const [questions, setQuestions] = useState((b?.questions ?? []).join('\n'))
  const [term, setTerm] = useState(b ? String(b.term_days ?? '') : '365')
  const [review, setReview] = useState(String(b?.review_days ?? ''))
  const [notWith, setNotWith] = useState<string[]>(b?.not_with ?? [])
  const [silent, setSilent] = useState(b?.extend === 'silent')
  const [why, setWhy] = useState('')
  const add = (resource: string, called?: string) => {
    if (/^[a-z]+:.+/.test(resource) && !gives.some((g) => g.resource === resource))
      setGives([...gives, { resource, name: called ?? resource, role: 'view' }])
    setAdding('')
  }
  const days = (text: string) => (text.trim() === '' ? null : Number(text))
  const save = useMutation({
    mutationFn: () => {
      const body = {
        name: name.trim(),
        gives: gives.map(({ resource, role }) => ({ resource, role })),
        partners,
        others,
        closed,
        approval,
        questions: questions
          .split('\n')
          .map((q) => q.trim())
          .filter(Boolean),
        term_days: days(term),
        review_days: days(review),
        not_with: notWith,
        extend: silent ? ('silent' as const) : ('approved' as const),
        ...(why.trim() ? { why: why.trim() } : {}),
      }
      if (b) return call('PATCH /api/v1/bundles/{id}', { path: { id: b.id }, body })
      return call('POST /api/v1/bundles', {
        body: { ...body, term_days: body.term_days ?? undefined, review_days: body.review_days ?? undefined },
      })
    },
    onSuccess: (x) => {
      done(b?.id ?? x?.id ?? '')
      close()
    },
  })
  const steps = ['sponsor', 'owner', 'keeper', 'administrator']
  return (
    <AskDialog
      policy
      wide
      scrollable
      title={b ? `Change ${b.name}` : 'Make a bundle'}
      leave="Cancel"
      submit={b ? 'Change it' : 'Make it'}
      disabled={save.isPending || name.trim() === '' || gives.length === 0}
      error={save.error}
      close={close}
      onSubmit={() => save.mutate()}
    >
      <Form.Group controlId="bu-name" className="mb-2">
        <Form.Label>Name</Form.Label>
        <Form.Control size="sm" required maxLength={200} value={name} onChange={(e) => setName(e.target.value)} />
        <Form.Text>People outside read it when they ask.</Form.Text>
      </Form.Group>
      <div className="plain-combo mb-2">
        <Combo
          label="What it gives"
          kind="resource"
          value={adding}
          onChange={setAdding}
          onPick={(s) => add(s.value, s.label)}
          onEnter={() => add(adding.trim())}
          placeholder="A space, a page, a file, a report …"
        />
      </div>
      {gives.length > 0 && (
        <ul className="plain-list mb-2" aria-label="What it gives: chosen">
          {gives.map((g) => (
            <li key={g.resource} className="line-act">
              <span>{g.name}</span>
              <Form.Select
                size="sm"
                aria-label={`Role on ${g.name}`}
                value={g.role}
                onChange={(e) => setGives(gives.map((x) => (x.resource === g.resource ? { ...x, role: e.target.value } : x)))}
              >
                {roles.map((r) => (
                  <option key={r}>{r}</option>
                ))}
              </Form.Select>
              <Button
                size="sm"
                variant="link"
                aria-label={`Take out ${g.name}`}
                onClick={() => setGives(gives.filter((x) => x.resource !== g.resource))}
              >
                ✕
              </Button>
            </li>
          ))}
        </ul>
      )}
      <Chips label="Whose people may ask for it" kind="partner" values={partners} onChange={setPartners} hint="partners" />
      <Form.Check
        id="bu-others"
        className="mb-2"
        label="Anybody else whose address may be invited"
        checked={others}
        onChange={(e) => setOthers(e.target.checked)}
      />
      <fieldset className="mb-2">
        <legend className="form-label">Approved by, in this order</legend>
        <ol className="plain-list">
          {approval.map((a, i) => (
            <li key={a} className="line-act">
              <span>
                {i + 1}. {a}
              </span>
              <Button
                size="sm"
                variant="link"
                disabled={i === 0}
                aria-label={`${a} before`}
                onClick={() => setApproval(approval.map((x, k) => (k === i - 1 ? a : k === i ? (approval[i - 1] ?? x) : x)))}
              >
                ↑
              </Button>
              <Button size="sm" variant="link" aria-label={`Without ${a}`} onClick={() => setApproval(approval.filter((x) => x !== a))}>
                ✕
              </Button>
            </li>
          ))}
          {approval.length === 0 && <li className="quiet">a keeper</li>}
        </ol>
        <div className="inline-form">
          <Form.Select
            size="sm"
            aria-label="Add who approves"
            value=""
            onChange={(e) => e.target.value && setApproval([...approval, e.target.value])}
          >
            <option value="">Add …</option>
            {steps
              .filter((s) => !approval.includes(s))
              .map((s) => (
                <option key={s}>{s}</option>
              ))}
          </Form.Select>
          <div className="plain-combo">
            <Combo
              label="Or a person"
              kind="person"
              value={person}
              onChange={setPerson}
              onPick={(s) => (setApproval([...approval.filter((a) => a !== s.value), s.value.replace(/^person:/, '')]), setPerson(''))}
            />
          </div>
        </div>
      </fieldset>
      <Form.Group controlId="bu-questions" className="mb-2">
        <Form.Label>Questions to whoever asks, one a line</Form.Label>
        <Form.Control size="sm" as="textarea" rows={2} value={questions} onChange={(e) => setQuestions(e.target.value)} />
      </Form.Group>
      <div className="inline-form mb-2">
        <Form.Group controlId="bu-term">
          <Form.Label>Given for at most (days)</Form.Label>
          <Form.Control size="sm" type="number" min={1} max={3650} value={term} onChange={(e) => setTerm(e.target.value)} />
        </Form.Group>
        <Form.Group controlId="bu-review">
          <Form.Label>Confirmed every (days)</Form.Label>
          <Form.Control
            size="sm"
            type="number"
            min={1}
            max={3650}
            value={review}
            placeholder="as the rules say"
            onChange={(e) => setReview(e.target.value)}
          />
        </Form.Group>
      </div>
      <Form.Check
        id="bu-silent"
        className="mb-2"
        label="Whoever holds it extends it without an approval"
        checked={silent}
        onChange={(e) => setSilent(e.target.checked)}
      />
      <Chips label="Nobody holds it beside" kind="bundle" values={notWith} onChange={setNotWith} hint="other bundles" />
      {b && (
        <Form.Check
          id="bu-closed"
          className="mb-2"
          label="Closed: nobody may ask for it any more"
          checked={closed}
          onChange={(e) => setClosed(e.target.checked)}
        />
      )}
      <Form.Group controlId="bu-why" className="mt-2">
        <Form.Label>Why</Form.Label>
        <Form.Control size="sm" value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Form.Group>
    </AskDialog>
  )
}
