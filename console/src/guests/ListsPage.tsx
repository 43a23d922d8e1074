import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useSearchParams } from 'react-router'
import { Going } from '../home/DatesWait'
import { call, linked, type Given, type ListTaken, type Session, failed } from '../api'
import { Page, Waiting, Wrong } from '../parts/bits'
import { TextOrFile } from '../parts/TextOrFile'
import { useRefresh } from '../parts/change'

const titles: Record<string, string> = { guests: 'Guests', grants: 'Grants', links: 'Links', spaces: 'Spaces', people: 'People of ours' }
const shownAtOnce = 200

/** The names of the columns of a text: its first line, as CSV has it. */
function columnsOf(text: string): string[] {
  const first = text.replace(/^\ufeff/, '').split(/\r?\n/, 1)[0]
  return [...first.matchAll(/\s*("(?:[^"]|"")*"|[^,]*)(?:,|$)/g)]
    .map((m) => m[1].trim())
    .slice(0, first === '' ? 0 : first.split(',').length)
    .map((c) => (c.startsWith('"') ? c.slice(1, -1).replaceAll('""', '"') : c))
    .filter((c) => c !== '')
}

type ListName = Given<'GET /api/v1/lists/{what}'>['path']['what']

/** Lists in and out: guests, grants, holdings of bundles, links, spaces and people as CSV, guests as SCIM too. */
export function ListsPage({ session }: { session: Session }) {
  const refresh = useRefresh()
  const [params, setParams] = useSearchParams()
  const what = params.get('what') || 'guests'
  const kinds = useQuery({ queryKey: ['lists'], queryFn: () => call('GET /api/v1/lists'), staleTime: Infinity })
  const [text, setText] = useState('')
  const [why, setWhy] = useState('')
  const [map, setMap] = useState<Record<string, string>>({})
  const [found, setFound] = useState<{ x: ListTaken; written: boolean }>()
  const kind = kinds.data?.lists.find((k) => k.what === what)
  const scim = what === 'guests' && text.trimStart().startsWith('{')
  const head = scim || !kind ? [] : columnsOf(text)
  const ours = (h: string) => map[h] ?? (kind?.columns.includes(h.toLowerCase()) ? h.toLowerCase() : '')
  const missing = kind && text !== '' && !scim ? kind.needs.filter((n) => !head.some((h) => ours(h) === n)) : []
  const take = useMutation({
    mutationFn: (preview: boolean) => {
      const said = head.filter((h) => map[h] && map[h] !== h.toLowerCase()).map((h) => `"${`${h}=${map[h]}`.replaceAll('"', '""')}"`)
      return call('POST /api/v1/lists/{what}', {
        path: { what: what as ListName },
        query: { preview, map: said.join(','), why },
        body: text,
        type: (scim ? 'application/scim+json' : 'text/csv') as 'text/csv',
      })
    },
    onSuccess: (x, preview) => {
      setFound({ x, written: !preview && x.errors.length === 0 })
      if (!preview) void refresh()
    },
  })
  const anew = (t: string) => {
    setText(t)
    setFound(undefined)
    take.reset()
  }
  const mayTake = session.role === 'administrator' || (session.role === 'keeper' && what !== 'people' && what !== 'spaces')
  if (failed(kinds))
    return (
      <Page title="Lists in and out">
        <Wrong error={kinds.error} retry={() => void kinds.refetch()} />
      </Page>
    )
  if (!kind) return <Waiting what="Reading which lists there are" />
  return (
    <Page
      title="Lists in and out"
      lead="Guests, grants and links as CSV files. An import is all or nothing: first you see what each line would change, and what is wrong with it."
      tools={
        <Form.Select
          size="sm"
          aria-label="Which list"
          value={what}
          onChange={(e) => {
            setParams({ what: e.target.value }, { replace: true })
            setMap({})
            anew('')
          }}
        >
          {kinds.data?.lists.map((k) => (
            <option key={k.what} value={k.what}>
              {titles[k.what]}
            </option>
          ))}
        </Form.Select>
      }
    >
      <section aria-labelledby="h-out">
        <h2 id="h-out">Out</h2>
        <p className="lists">
          <a href={linked('GET /api/v1/lists/{what}', { path: { what: what as ListName } })} download={`${what}.csv`}>
            {titles[what]} as CSV
          </a>
          {what === 'guests' && (
            <a href={linked('GET /api/v1/lists/{what}', { path: { what: 'guests' }, query: { format: 'scim' } })} download="guests.json">
              Guests as a SCIM list response
            </a>
          )}
        </p>
        <p className="quiet">
          Columns: {kind.columns.join(', ')}.{' '}
          {kind.many.length > 0 && <>Several values stand between semicolons in {kind.many.join(', ')}.</>}
        </p>
      </section>
      {mayTake && (
        <section aria-labelledby="h-in">
          <h2 id="h-in">In</h2>
          <Form
            onSubmit={(e) => {
              e.preventDefault()
              take.mutate(true)
            }}
          >
            <TextOrFile
              id="list-text"
              rows={6}
              label={
                <>
                  CSV whose first line names columns{what === 'guests' ? ', or a SCIM list response' : ''}; needed: {kind.needs.join(', ')}
                </>
              }
              value={text}
              placeholder={`${[...kind.needs, ...kind.columns.filter((c) => !kind.needs.includes(c))].slice(0, 4).join(',')}\n…`}
              change={anew}
            >
              <Form.Control
                size="sm"
                aria-label="Why"
                placeholder="why, for the journal"
                value={why}
                onChange={(e) => setWhy(e.target.value)}
              />
            </TextOrFile>
            {head.length > 0 && (
              <fieldset className="mapping">
                <legend>Which of its columns is which of ours</legend>
                {head.map((h) => (
                  <Form.Group key={h} controlId={`map-${h}`}>
                    <Form.Label>{h}</Form.Label>
                    <Form.Select
                      size="sm"
                      value={ours(h)}
                      onChange={(e) => {
                        setMap({ ...map, [h]: e.target.value })
                        setFound(undefined)
                      }}
                    >
                      {!kind.columns.includes(h.toLowerCase()) && <option value="">left out</option>}
                      {kind.columns.map((c) => (
                        <option key={c}>{c}</option>
                      ))}
                    </Form.Select>
                  </Form.Group>
                ))}
              </fieldset>
            )}
            {missing.length > 0 && (
              <p className="gets-no" role="status">
                ▼ No column of it is {missing.join(', ')}: say above which it is.
              </p>
            )}
            {take.error && <Wrong error={take.error} />}
            <div className="invite-do">
              <Button
                type="submit"
                variant={found && !found.written && found.x.errors.length === 0 ? 'outline-primary' : 'primary'}
                disabled={take.isPending || text.trim() === '' || missing.length > 0}
              >
                {take.isPending ? 'Reading the list' : 'See what would change'}
              </Button>
              {found && !found.written && found.x.errors.length === 0 && found.x.added + found.x.changed > 0 && (
                <Button disabled={take.isPending} onClick={() => take.mutate(false)}>
                  Take it in
                </Button>
              )}
            </div>
          </Form>
          {found && <Found {...found} />}
        </section>
      )}
    </Page>
  )
}

function Found({ x, written }: { x: ListTaken; written: boolean }) {
  const changes = (x.sample ?? []).filter((c) => c.what !== 'same')
  return (
    <div data-testid="taken">
      <p role="status" className="mt-3">
        {x.lines} {x.lines === 1 ? 'line' : 'lines'}: {x.added} added, {x.changed} changed, {x.same} as it is.{' '}
        {x.errors.length > 0 ? (
          <b>{x.errors.length} wrong: nothing is taken in until none is.</b>
        ) : written ? (
          <b>Taken in.</b>
        ) : (
          'Nothing is written yet.'
        )}
        {x.ignored && x.ignored.length > 0 && <> Left out: {x.ignored.join(', ')}.</>}
      </p>
      {x.going && (
        <>
          <p>
            The dates of {x.going.records === 1 ? 'the record that comes' : `${x.going.records} records that come`}{' '}
            {x.waits ? 'wait until an administrator lets them count. If they counted now:' : 'set going:'}
          </p>
          <Going g={x.going} />
        </>
      )}
      {x.errors.length > 0 ? (
        <Lines
          label="What is wrong"
          columns={['Column', 'Value', 'What is wrong']}
          rows={x.errors.slice(0, shownAtOnce).map((e) => ({ line: e.line, cells: [e.column, e.value, e.text] }))}
        />
      ) : (
        changes.length > 0 && (
          <Lines label="What changes" columns={['Which', 'What']} rows={changes.map((c) => ({ line: c.line, cells: [c.id, c.what] }))} />
        )
      )}
    </div>
  )
}

/** Lines of a list with what there is to say of each; the first cell names what it is about. */
function Lines({ label, columns, rows }: { label: string; columns: string[]; rows: { line: number; cells: (string | undefined)[] }[] }) {
  return (
    <div className="wide import-lines" role="region" aria-label={label} tabIndex={0}>
      <table className="table listing">
        <thead>
          <tr>
            <th scope="col" className="num">
              Line
            </th>
            {columns.map((c) => (
              <th key={c} scope="col">
                {c}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r, i) => (
            <tr key={i}>
              <td className="num">{r.line || ''}</td>
              {r.cells.map((c, k) =>
                k === 0 ? (
                  <th key={k} scope="row">
                    {c}
                  </th>
                ) : (
                  <td key={k}>{c}</td>
                ),
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
