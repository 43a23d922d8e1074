import type { ReactNode } from 'react'
import { Button } from 'react-bootstrap'

/** A set of changes that is proposed, with its number, what it does and, where somebody may, the button that makes a draft of it. */
export function Proposal({
  n,
  changes,
  weighs,
  take,
  waits,
}: {
  n: number
  changes: { text: string; beside?: ReactNode }[]
  weighs: ReactNode
  take?: () => void
  waits: boolean
}) {
  return (
    <li className="remedy">
      <span className="remedy-number" aria-hidden="true">
        {n}
      </span>
      <div>
        <ul className="remedy-changes">
          {changes.map((c) => (
            <li key={c.text}>
              {c.text} {c.beside}
            </li>
          ))}
        </ul>
        {weighs}
      </div>
      {take && (
        <Button size="sm" variant={n === 1 ? 'primary' : 'outline-primary'} disabled={waits} onClick={take}>
          Make a draft of it
        </Button>
      )}
    </li>
  )
}
