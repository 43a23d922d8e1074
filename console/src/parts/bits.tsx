import { useEffect, type ReactNode } from 'react'
import { Alert, Button, Spinner } from 'react-bootstrap'
import { Failure } from '../api'
import { useRefresh } from './change'
export { day, dayFromNow, dayYear, next, setZone, since, until, when } from './dates'

/** The standard on its pole: the product's own mark. */
export function Mark({ size = 28 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 32 32" aria-hidden="true">
      <path d="M16 3v26M6.5 7.2h19" stroke="var(--wx-brass)" strokeWidth="2.4" strokeLinecap="round" />
      <path d="M8 8.8h16v11.6l-2.67 2.3-2.66-2.3L16 22.7l-2.67-2.3-2.66 2.3L8 20.4z" fill="var(--wx-signal)" />
      <path d="M12 12.4l4 4 4-4" fill="none" stroke="#fff4e2" strokeWidth="2" strokeLinejoin="round" strokeLinecap="round" />
    </svg>
  )
}

export function Waiting({ what }: { what: string }) {
  return (
    <p className="waiting" role="status">
      <Spinner size="sm" aria-hidden="true" /> {what}
    </p>
  )
}

/** What went wrong, and what to do. */
export function Wrong({ error, retry }: { error: unknown; retry?: () => void }) {
  const refresh = useRefresh()
  const stale = error instanceof Failure && error.problem.status === 412
  return (
    <Alert variant="danger" className="wrong">
      <span>
        {stale
          ? `Not saved: somebody else changed this while you were editing. What you typed is still here; look at it as it is now, then save again. ${error.problem.detail && error.problem.detail !== 'read it again and repeat the change' ? `(${error.problem.detail})` : ''}`
          : error instanceof Failure && error.problem.type.endsWith('/sign-in')
            ? 'Your session had ended, and nothing was done. Sign in, then send it again.'
            : error instanceof Error
              ? error.message
              : String(error)}
      </span>
      {stale && (
        <Button size="sm" variant="outline-danger" onClick={() => void refresh()}>
          Show it as it is now
        </Button>
      )}
      {retry && (
        <Button size="sm" variant="outline-danger" onClick={retry}>
          Try again
        </Button>
      )}
    </Alert>
  )
}

export function Page({
  title,
  lead,
  tools,
  bare,
  children,
}: {
  title: string
  lead?: ReactNode
  tools?: ReactNode
  bare?: boolean
  children: ReactNode
}) {
  useEffect(() => {
    document.title = `${title} · Wexillum`
  }, [title])
  return (
    <section className="page" aria-labelledby="page-title">
      {!bare && (
        <header className="page-head">
          <div>
            <h1 id="page-title">{title}</h1>
            {lead && <p className="lead-line">{lead}</p>}
          </div>
          {tools && <div className="tools">{tools}</div>}
        </header>
      )}
      {children}
    </section>
  )
}

export function Empty({ children }: { children: ReactNode }) {
  return <p className="empty">{children}</p>
}

/** Writes who can change something. */
export function whoWord(who: string | undefined): string {
  if (!who) return ''
  const [kind, id] = who.split(':')
  if (!id) return who === 'administrator' ? 'an administrator' : who
  return kind === 'partner' ? `their administrator (${id})` : `${kind} ${id}`
}

/** What stands in the way, and whose it is. */
export function Reasons({ causes }: { causes: { text: string; side: string; who?: string }[] }) {
  return (
    <>
      {causes.map((c, k) => (
        <span className="sub" key={k}>
          {c.text} <em>{c.side === 'theirs' ? 'theirs' : whoWord(c.who)}</em>
        </span>
      ))}
    </>
  )
}
