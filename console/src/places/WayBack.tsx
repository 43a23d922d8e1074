import { useState, useSyncExternalStore } from 'react'
import { Button } from 'react-bootstrap'
import { lastDone, offerBack, watchDone } from './edit'
import { UndoDialog } from './PlaceDialog'

/** Says what was just changed, and takes it back if that is wanted. */
export function WayBack() {
  const d = useSyncExternalStore(watchDone, lastDone)
  const [open, setOpen] = useState(false)
  if (!d) return null
  return (
    <p className="back-bar" role="status">
      <span>{d.text}.</span>
      {d.change !== undefined && (
        <Button size="sm" variant="link" onClick={() => setOpen(true)}>
          Undo
        </Button>
      )}
      <Button size="sm" variant="link" aria-label="Hide what was changed" onClick={() => offerBack(null)}>
        ✕
      </Button>
      {open && d.change !== undefined && <UndoDialog seq={d.change} close={() => setOpen(false)} />}
    </p>
  )
}
