import { useId, type ReactNode } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Modal } from './Dialog'
import { Wrong } from './bits'

/** A change that is shown before it is made: what it does, what is asked, and the way out of it. */
export function AskDialog({
  title,
  leave,
  submit,
  disabled,
  danger,
  policy = false,
  wide,
  scrollable,
  lock,
  className,
  error,
  close,
  onSubmit,
  more,
  children,
}: {
  title: ReactNode
  leave: string
  submit: string
  disabled: boolean
  danger?: boolean
  /** Whether it changes policy, which a draft takes; else it changes at once. */
  policy?: boolean
  wide?: boolean
  scrollable?: boolean
  /** Whether it can neither be left nor sent now; else while anything is being written. */
  lock?: boolean
  className?: string
  error: unknown
  close: () => void
  onSubmit: () => void
  /** What else can be done, beside leaving and sending. */
  more?: ReactNode
  children: ReactNode
}) {
  const id = useId()
  return (
    <Modal
      show
      policy={policy}
      onHide={close}
      scrollable={scrollable}
      lock={lock}
      size={wide ? 'lg' : undefined}
      aria-labelledby={id}
      className={className}
      animation={false}
    >
      <Form
        onSubmit={(e) => {
          e.preventDefault()
          onSubmit()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title id={id} as="h2">
            {title}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {error !== null && error !== undefined && <Wrong error={error} />}
          {children}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={close}>
            {leave}
          </Button>
          {more}
          <Button type="submit" variant={danger ? 'danger' : undefined} disabled={disabled}>
            {submit}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
