import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Modal } from '../parts/Dialog'
import { type Draft } from '../api'
import { Wrong } from '../parts/bits'
import { Despite } from '../expect/Breaks'
import { EditList } from './EditList'
import { ImpactPicture } from './Impact'
import { type Decision, setAsk, type Weighing } from './quick'

/** Shows what one change does before it is published. */
export function QuickDialog({ role }: { role: string }) {
  const client = useQueryClient()
  const [open, setOpen] = useState<{ w: Weighing; done: (d: Decision) => void } | null>(null)
  const [why, setWhy] = useState('')
  const [despite, setDespite] = useState('')
  const [error, setError] = useState<unknown>(null)
  const [busy, setBusy] = useState(false)
  const going = useRef(false) // a second click comes before the first is drawn
  const [waits, setWaits] = useState('')
  useEffect(() => {
    setAsk(
      (w) =>
        new Promise((done) => {
          setWhy(w.why)
          setDespite('')
          setError(null)
          setBusy(false)
          going.current = false
          setOpen({ w, done })
        }),
    )
    return () => setAsk(null)
  }, [])
  useEffect(() => {
    if (!open || busy) return // while it is being published nothing is dropped
    addEventListener('pagehide', open.w.drop) // a change that nobody decided about leaves nothing behind
    return () => removeEventListener('pagehide', open.w.drop)
  }, [open, busy])
  if (waits)
    return (
      <Modal show lock={false} onHide={() => setWaits('')} aria-labelledby="quick-title" className="quick-dialog">
        <Modal.Header closeButton>
          <Modal.Title id="quick-title" as="h2">
            Not in force yet
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <p>Somebody else must confirm it: it waits as the draft “{waits}”, under Drafts.</p>
        </Modal.Body>
        <Modal.Footer>
          <Button onClick={() => setWaits('')}>Understood</Button>
        </Modal.Footer>
      </Modal>
    )
  if (!open) return null
  const { w, done } = open
  const breaks = (w.impact.breaks?.length ?? 0) > 0
  const end = (d: Decision) => {
    setOpen(null)
    done(d)
    void client.invalidateQueries({ queryKey: ['drafts'] })
  }
  const became = (d: Draft) => {
    setBusy(false)
    going.current = false
    if (d.state === 'waiting') {
      setWaits(d.name)
      end({ do: 'waits' })
    } else if (d.state === 'dropped') end({ do: 'drop' })
    else end({ do: 'publish', why })
  }
  const keep = async () => {
    if (going.current) return
    going.current = true
    setBusy(true)
    setError(null)
    try {
      await w.keep(why.trim())
      setBusy(false)
      going.current = false
      end({ do: 'keep' })
    } catch (e) {
      setError(e)
      setBusy(false)
      going.current = false
    }
  }
  const publish = async () => {
    if (going.current) return
    going.current = true
    setBusy(true)
    setError(null)
    try {
      became(await w.publish(why.trim(), despite.trim()))
    } catch (e) {
      // No answer is no refusal: what became of it is asked before anything is said.
      const d = await w.now().catch(() => undefined)
      if (d && d.state !== 'open') became(d)
      else {
        setError(e)
        setBusy(false)
        going.current = false
      }
    }
  }
  return (
    <Modal
      show
      lock={busy}
      size="lg"
      onHide={() => end({ do: 'drop' })}
      aria-labelledby="quick-title"
      className="quick-dialog"
      backdrop="static"
      animation={false}
    >
      <Form
        onSubmit={(e) => {
          e.preventDefault()
          void publish()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title id="quick-title" as="h2">
            What this changes
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {error !== null && <Wrong error={error} />}
          <EditList edits={w.draft.edits} />
          <ImpactPicture x={w.impact} />
          {role === 'administrator' && (
            <Form.Group controlId="quick-why">
              <Form.Label>Why</Form.Label>
              <Form.Control value={why} onChange={(e) => setWhy(e.target.value)} required maxLength={1000} autoFocus />
            </Form.Group>
          )}
          {role === 'administrator' && breaks && <Despite value={despite} set={setDespite} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={() => end({ do: 'drop' })}>
            Change nothing
          </Button>
          <Button variant="outline-primary" onClick={() => void keep()}>
            {role === 'administrator' ? 'Keep as a draft' : 'Keep as a draft for an administrator'}
          </Button>
          {role === 'administrator' && (
            <Button type="submit" className="quick-publish" disabled={busy || why.trim() === '' || (breaks && despite.trim() === '')}>
              {w.impact.second ? 'Ask for confirmation' : 'Publish'}
            </Button>
          )}
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
