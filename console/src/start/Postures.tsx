import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { call } from '../api'
import { Waiting, Wrong } from '../parts/bits'
import { useChange } from '../parts/change'

/** Where to stand towards outsiders to begin with, from closed to open, each with the rules it sets. */
export function Postures() {
  const navigate = useNavigate()
  const postures = useQuery({ queryKey: ['postures'], queryFn: () => call('GET /api/v1/postures') })
  const [picked, setPicked] = useState<string>()
  const draft = useChange(
    (name: string) => call('POST /api/v1/postures/{name}/draft', { path: { name } }),
    (d) => navigate(`/drafts/${d.id}`),
  )
  if (!postures.data) return postures.error ? <Wrong error={postures.error} /> : <Waiting what="Reading the rules" />
  const list = postures.data.postures
  const at = list.find((p) => p.name === picked) ?? list.find((p) => p.now)
  return (
    <>
      {draft.error && <Wrong error={draft.error} />}
      <fieldset className="choose postures">
        <legend className="visually-hidden">How open to begin with</legend>
        {list.map((p) => (
          <Form.Check
            key={p.name}
            type="radio"
            name="posture"
            id={`posture-${p.name}`}
            checked={at?.name === p.name}
            onChange={() => setPicked(p.name)}
            label={
              <>
                <b>{p.title}</b> {p.now && <span className="tag">now</span>} {p.says}
              </>
            }
          />
        ))}
      </fieldset>
      {at && !at.now && (
        <>
          <details>
            <summary>
              The {at.rules.length} {at.rules.length === 1 ? 'default' : 'defaults'} it would change
            </summary>
            <ul className="plain-list">
              {at.rules.map((r) => (
                <li key={r.rule} className={r.can ? '' : 'gets-no'}>
                  <b>{r.title}</b>: {r.was} → {r.value}. {r.can ? r.sentence : 'Left as it is: the limit does not allow it.'}
                </li>
              ))}
            </ul>
          </details>
          <Button size="sm" className="mt-2" disabled={draft.isPending} onClick={() => draft.mutate(at.name)}>
            See whom it would touch
          </Button>
        </>
      )}
    </>
  )
}
