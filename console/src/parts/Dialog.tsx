import { useIsMutating } from '@tanstack/react-query'
import { useEffect, useRef, useSyncExternalStore, type ComponentProps } from 'react'
import { Modal as Base } from 'react-bootstrap'
import { inDraft, watchDraft } from '../drafts/quick'

/** The draft that this window works in; null for none. */
export function useDraft() {
  return useSyncExternalStore(watchDraft, inDraft)
}

/** What a change of this kind goes into, said where it is made. */
export function GoesWhere({ policy }: { policy?: boolean }) {
  const d = useDraft()
  if (!d) return null
  return (
    <p className="goes-where">
      {policy
        ? `This goes into the draft “${d.name}”; nothing changes before that is published.`
        : `This changes at once. It is not part of the draft “${d.name}”, in which you are.`}
    </p>
  )
}

type Props = ComponentProps<typeof Base> & {
  /** Whether what it does is being done; else whether anything is being written. */
  lock?: boolean
  /** Whether it changes policy, which a draft takes, or something else; absent: it says so itself. */
  policy?: boolean
}

/** A dialogue that cannot be left, or sent twice, while it writes. */
function Dialog({ lock, policy, onHide, children, ...rest }: Props) {
  const writing = useIsMutating() > 0
  const busy = lock ?? writing
  const within = useRef<HTMLFieldSetElement>(null)
  const at = useRef<HTMLElement | null>(null)
  useEffect(() => {
    if (busy) return
    const was = at.current // what was pressed is disabled meanwhile, and loses the focus
    if (was?.isConnected && within.current?.contains(was) && !within.current.contains(document.activeElement)) was.focus()
  }, [busy])
  return (
    <Base {...rest} onHide={busy ? undefined : onHide}>
      <fieldset
        ref={within}
        disabled={busy}
        aria-busy={busy}
        className="dialog-lock"
        onFocus={(e) => {
          at.current = e.target as HTMLElement
        }}
      >
        {policy !== undefined && <GoesWhere policy={policy} />}
        {children}
      </fieldset>
    </Base>
  )
}

export const Modal = Object.assign(Dialog, { Header: Base.Header, Title: Base.Title, Body: Base.Body, Footer: Base.Footer })
