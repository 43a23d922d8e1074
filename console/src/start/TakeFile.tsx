import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { call } from '../api'
import { Wrong } from '../parts/bits'
import { useChange } from '../parts/change'

/** Takes in a world file: what it would change, then the change. */
export function TakeFile() {
  const [file, setFile] = useState<{ name: string; text: string }>()
  const load = useChange((preview: boolean) =>
    call('POST /api/v1/world', {
      query: { file: file!.name, preview, why: 'taken in at the beginning' },
      body: file!.text,
      type: 'application/yaml',
    }),
  )
  const x = load.data
  return (
    <details className="mt-2">
      <summary>From a world file</summary>
      <div className="inline-form mt-2">
        <Form.Control
          size="sm"
          type="file"
          aria-label="World file"
          accept=".yaml,.yml"
          onChange={(e) => {
            const f = (e.target as HTMLInputElement).files?.[0]
            load.reset()
            if (f) void f.text().then((text) => setFile({ name: f.name, text }))
          }}
        />
        <Button size="sm" variant="outline-primary" disabled={!file || load.isPending} onClick={() => load.mutate(true)}>
          See what would change
        </Button>
        {x?.preview && (
          <Button size="sm" disabled={load.isPending} onClick={() => load.mutate(false)}>
            Take it in
          </Button>
        )}
      </div>
      {load.error && <Wrong error={load.error} />}
      {x && <p role="status">{x.preview ? `${x.changed} records would change.` : `${x.changed} records are taken in.`}</p>}
    </details>
  )
}
