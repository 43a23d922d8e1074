import type { ReactNode } from 'react'
import { Form } from 'react-bootstrap'

/** A list as text, typed or pasted, or out of a file. What else belongs beside the file is its children. */
export function TextOrFile({
  id,
  label,
  rows,
  value,
  placeholder,
  change,
  children,
}: {
  id: string
  label: ReactNode
  rows: number
  value: string
  placeholder: string
  change: (text: string) => void
  children?: ReactNode
}) {
  return (
    <>
      <Form.Group controlId={id} className="mb-2">
        <Form.Label>{label}</Form.Label>
        <Form.Control
          as="textarea"
          rows={rows}
          className="csv"
          required
          value={value}
          placeholder={placeholder}
          onChange={(e) => change(e.target.value)}
        />
      </Form.Group>
      <div className="inline-form">
        <Form.Control
          size="sm"
          type="file"
          aria-label="A file instead"
          accept=".txt,.csv,.json,text/*"
          onChange={(e) => {
            const f = (e.target as HTMLInputElement).files?.[0]
            if (f) void f.text().then(change)
          }}
        />
        {children}
      </div>
    </>
  )
}
