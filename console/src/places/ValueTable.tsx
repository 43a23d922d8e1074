import { useMutation } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { type Choice, type ValueRow, type Values } from '../api'
import { whoWord, Wrong } from '../parts/bits'
import { useRefresh } from '../parts/change'
import { ValueDialog, WantedDialog, change, type Change } from './ValueDialogs'

/** What stands against a choice, in words. */
export function against(c: Choice): string {
  const who = whoWord(c.who)
  return `${c.by}${c.where ? ` ${c.where}` : ''} says ${c.says}; ${who} can raise it`
}

/** The rules of a place: what is set here, what counts, and what may be chosen. */
export function ValueTable({
  values,
  edit,
  ask = false,
}: {
  values: Values
  edit: boolean
  /** Whether who may not set it may ask whoever may. */ ask?: boolean
}) {
  const refresh = useRefresh()
  const [all, setAll] = useState(false)
  const [asked, setAsked] = useState<Change>()
  const [back, setBack] = useState<Change>()
  const [wanted, setWanted] = useState<Change>()
  const [sent, setSent] = useState('')
  const fresh = () => refresh()
  const save = useMutation({ mutationFn: (c: Change) => change(values, c), onSettled: fresh })
  // A partner's values are policy, and are weighed as every change of it is.
  const pick = (c: Change) => (values.where.startsWith('partner:') ? save.mutate(c) : setAsked(c))
  const rows = all ? values.rules : values.rules.filter((r) => r.set !== undefined)
  return (
    <>
      {save.error && <Wrong error={save.error} />}
      {back && (
        <p role="status" className="way-back">
          <code>{back.rule}</code> is changed.{' '}
          <Button size="sm" variant="link" onClick={() => setAsked(back)}>
            Set it back to {back.value || 'nothing'}
          </Button>
        </p>
      )}
      {sent && (
        <p role="status" className="way-back">
          Sent: {sent}. What becomes of it is among your requests.
        </p>
      )}
      {wanted && (
        <WantedDialog
          values={values}
          wanted={wanted}
          close={() => setWanted(undefined)}
          done={(title) => {
            setSent(title)
            setWanted(undefined)
            void fresh()
          }}
        />
      )}
      {asked && (
        <ValueDialog
          values={values}
          asked={asked}
          close={() => setAsked(undefined)}
          done={() => {
            setBack({ rule: asked.rule, value: values.rules.find((r) => r.rule === asked.rule)?.set ?? '' })
            setAsked(undefined)
            void fresh()
          }}
        />
      )}
      <div className="wide" role="region" aria-label={`Rules of ${values.name || values.where}`} tabIndex={0}>
        <table className="table values">
          <thead>
            <tr>
              <th scope="col">Rule</th>
              <th scope="col">Set here</th>
              <th scope="col">Counts here</th>
              <th scope="col">Cannot be chosen</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <ValueLine
                key={r.rule}
                r={r}
                edit={edit || ask}
                submit={edit ? 'Set' : 'Ask for it'}
                save={(value) => (edit ? pick({ rule: r.rule, value }) : setWanted({ rule: r.rule, value }))}
                busy={save.isPending}
              />
            ))}
            {rows.length === 0 && (
              <tr>
                <td colSpan={4}>Nothing is set here; every rule counts as the layers above say.</td>
              </tr>
            )}
          </tbody>
        </table>
      </div>
      <Button size="sm" variant="link" onClick={() => setAll(!all)} aria-expanded={all}>
        {all ? 'Only what is set here' : `All ${values.rules.length} rules that may be set here`}
      </Button>
    </>
  )
}

function ValueLine({
  r,
  edit,
  submit,
  save,
  busy,
}: {
  r: ValueRow
  edit: boolean
  submit: string
  save: (v: string) => void
  busy: boolean
}) {
  const [text, setText] = useState(r.set ?? '')
  useEffect(() => setText(r.set ?? ''), [r.set])
  const not = r.choices.filter((c) => !c.can)
  const listed = r.shape === 'switch' || r.shape === 'level' || r.shape === 'choice'
  return (
    <tr data-rule={r.rule}>
      <th scope="row">
        <Link to={`/rules?rule=${r.rule}`}>{r.title}</Link>
        <code className="sub">{r.rule}</code>
      </th>
      <td>
        {edit && (
          <Form
            className="value-form"
            onSubmit={(e) => {
              e.preventDefault()
              save(text.trim())
            }}
          >
            {listed ? (
              <Form.Select size="sm" aria-label={`${r.rule} here`} value={text} disabled={busy} onChange={(e) => setText(e.target.value)}>
                <option value="">not set</option>
                {r.choices.map((c) => (
                  <option key={c.value} value={c.value} disabled={c.by === 'limit' && c.value !== r.set}>
                    {c.value}
                    {c.can ? '' : ` (no: ${c.by})`}
                  </option>
                ))}
              </Form.Select>
            ) : (
              <Form.Control
                size="sm"
                aria-label={`${r.rule} here`}
                value={text}
                placeholder={r.shape === 'days' ? 'days, or none' : 'methods'}
                onChange={(e) => setText(e.target.value)}
              />
            )}
            <Button size="sm" type="submit" variant="outline-primary" disabled={busy || text.trim() === (r.set ?? '')}>
              {submit}
            </Button>
          </Form>
        )}
        {!edit && (r.set ?? <span className="quiet">not set</span>)}
        {r.held && (
          <span className="held">
            {' '}
            held back
            {edit && submit === 'Set' && (
              <Button size="sm" variant="link" disabled={busy} onClick={() => save(r.set ?? '')}>
                Release
              </Button>
            )}
          </span>
        )}
      </td>
      <td>
        <b>{r.value}</b> <span className="quiet">by {r.layer}</span>
        <span className="sub">{r.sentence}</span>
      </td>
      <td className="quiet">
        {not.length === 0
          ? '–'
          : listed
            ? not.map((c) => `${c.value}: ${against(c)}`).join('; ')
            : `more than the ${not[0].by} says (${not[0].says}); ${whoWord(not[0].who)} can raise it`}
      </td>
    </tr>
  )
}
