import { useState, type ReactNode } from 'react'
import { Button } from 'react-bootstrap'

/** The first of a list, and all of it where somebody wants to see it; it is always said how many there are. */
export function Capped<T>({ list, first, children }: { list: T[]; first: number; children: (shown: T[]) => ReactNode }) {
  const [all, setAll] = useState(false)
  return (
    <>
      {children(all ? list : list.slice(0, first))}
      {list.length > first && (
        <Button size="sm" variant="link" className="capped" aria-expanded={all} onClick={() => setAll(!all)}>
          {all ? `The first ${first} alone` : `${first} of ${list.length} are shown; show all`}
        </Button>
      )}
    </>
  )
}
