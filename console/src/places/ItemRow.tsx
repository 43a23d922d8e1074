import { Wrong } from '../parts/bits'
import { call, type ItemView } from '../api'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { CloseDialog } from './SpaceForms'
import { ChangeItem } from './ItemForms'
import { ValueTable } from './ValueTable'

/** What is in a space; with space it can be changed. */
export function Item({ it, edit, space }: { it: ItemView; edit: boolean; space?: string }) {
  const [asking, setAsking] = useState<'change' | 'close' | 'remove'>()
  const [open, setOpen] = useState(false)
  const where = `${it.kind}:${it.id}`
  const values = useQuery({
    queryKey: ['values', where],
    queryFn: () => call('GET /api/v1/values/{where}', { path: { where } }),
    enabled: open,
  })
  const set = Object.entries(it.rules)
  return (
    <li>
      <div className="item-line">
        <span>
          <b>{it.name}</b> <span className="quiet">{it.kind}</span> {it.private && <span className="tag">private</span>}
          {set.map(([rule, v]) => (
            <span key={rule} className="tag">
              {rule} {v.value}
              {v.held ? ' held back' : ''}
            </span>
          ))}
        </span>
        <span>
          {(it.kind === 'file' || it.kind === 'folder') && (
            <Link className="btn btn-sm btn-link" to={`/links?item=${encodeURIComponent(where)}`} aria-label={`Links to ${it.name}`}>
              Links
            </Link>
          )}
          <Button size="sm" variant="link" aria-expanded={open} onClick={() => setOpen(!open)} aria-label={`Rules of ${it.name}`}>
            Rules
          </Button>
          {it.kind === 'meeting' ? (
            <Link className="btn btn-sm btn-link" to={`/meetings/${it.id}`} aria-label={`Open ${it.name}`}>
              Open
            </Link>
          ) : (
            space && (
              <>
                <Button size="sm" variant="link" onClick={() => setAsking('change')} aria-label={`Change ${it.name}`}>
                  Change
                </Button>
                <Button size="sm" variant="link" onClick={() => setAsking('close')} aria-label={`Close ${it.name}`}>
                  Close
                </Button>
                <Button size="sm" variant="link" onClick={() => setAsking('remove')} aria-label={`Remove ${it.name}`}>
                  Remove
                </Button>
              </>
            )
          )}
        </span>
      </div>
      {asking === 'change' && space && <ChangeItem it={it} space={space} close={() => setAsking(undefined)} />}
      {(asking === 'close' || asking === 'remove') && (
        <CloseDialog kind="item" id={it.id} name={it.name} remove={asking === 'remove'} close={() => setAsking(undefined)} />
      )}
      {open && values.error && <Wrong error={values.error} />}
      {open &&
        values.data &&
        (values.data.rules.length ? (
          <ValueTable values={values.data} edit={edit} />
        ) : (
          <p className="quiet">No rule is set for a {it.kind} itself.</p>
        ))}
    </li>
  )
}
