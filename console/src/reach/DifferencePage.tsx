import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { useSearchParams } from 'react-router'
import { call, linked } from '../api'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { Combo } from '../parts/Combo'
import { StatedLine } from './time'

const words = { gained: '+ only right', lost: '− only left', otherwise: '~ otherwise' }

/** What two parties, or one at two moments, may not do alike. */
export function DifferencePage() {
  const [params, setParams] = useSearchParams()
  const [f, setF] = useState({
    who: params.get('who') ?? '',
    and_who: params.get('and_who') ?? '',
    at: params.get('at') ?? '',
    and_at: params.get('and_at') ?? '',
  })
  const asked = {
    who: params.get('who') ?? '',
    and_who: params.get('and_who') ?? '',
    at: params.get('at') ?? '',
    and_at: params.get('and_at') ?? '',
  }
  const ready = asked.who !== '' && (asked.and_who !== '' || asked.at !== '' || asked.and_at !== '')
  // One party at one day is compared with now.
  const sent = asked.and_who === '' && asked.at !== '' && asked.and_at === '' ? { ...asked, at: '', and_at: asked.at } : asked
  const diff = useQuery({
    queryKey: ['diff', sent],
    queryFn: () => call('GET /api/v1/diff', { query: sent }),
    enabled: ready,
    placeholderData: keepPreviousData,
  })
  const x = diff.data
  const left = x ? (x.who === x.and_who ? when(x.left.at) : x.who) : ''
  const right = x ? (x.who === x.and_who ? when(x.right.at) : x.and_who) : ''
  return (
    <Page title="Difference" lead="Why two people differ, and how access was or will be on another date.">
      <Form
        className="difference-form"
        aria-label="What is compared"
        onSubmit={(e) => {
          e.preventDefault()
          setParams(Object.fromEntries(Object.entries(f).filter(([, v]) => v.trim())))
        }}
      >
        <div className="plain-combo">
          <Combo label="Left: who" kind="who" value={f.who} onChange={(who) => setF({ ...f, who })} />
        </div>
        <Form.Group controlId="d-at">
          <Form.Label>on</Form.Label>
          <Form.Control size="sm" type="date" value={f.at} onChange={(e) => setF({ ...f, at: e.target.value })} />
        </Form.Group>
        <div className="plain-combo">
          <Combo label="Right: who" kind="who" value={f.and_who} onChange={(and_who) => setF({ ...f, and_who })} placeholder="the same" />
        </div>
        <Form.Group controlId="d-and-at">
          <Form.Label>on</Form.Label>
          <Form.Control size="sm" type="date" value={f.and_at} onChange={(e) => setF({ ...f, and_at: e.target.value })} />
        </Form.Group>
        <Button size="sm" type="submit" disabled={f.who.trim() === ''}>
          Compare
        </Button>
      </Form>
      {!ready && <Empty>Enter somebody, and somebody else or another day. A day left empty is now.</Empty>}
      {diff.error && <Wrong error={diff.error} />}
      {ready && !x && !diff.error && <Waiting what="Asking both sides" />}
      {ready && x && (
        <>
          <p className="figures" role="status">
            {x.lines.length === 0
              ? 'Nothing differs.'
              : Object.entries(words)
                  .map(([k, w]) => `${w}: ${x.lines.filter((l) => l.change === k).reduce((n, l) => n + l.count, 0)}`)
                  .join(' · ')}
          </p>
          {x.lines.length > 0 && (
            <div className="wide" role="region" aria-label="Differences" tabIndex={0}>
              <table className="table listing">
                <thead>
                  <tr>
                    <th scope="col">Change</th>
                    <th scope="col">What</th>
                    <th scope="col">{left}</th>
                    <th scope="col">{right}</th>
                  </tr>
                </thead>
                <tbody>
                  {x.lines.map((l, i) => (
                    <tr key={i}>
                      <td>
                        <span className={`change is-${l.change === 'gained' ? 'opened' : l.change === 'lost' ? 'closed' : 'otherwise'}`}>
                          {words[l.change]}
                        </span>
                      </td>
                      <th scope="row">
                        {l.action}
                        <span className="sub">
                          {l.name || l.resource}
                          {l.count > 1 ? ` (${l.count})` : ''}
                        </span>
                      </th>
                      <td>{l.was?.text ?? 'There is no such thing on this side.'}</td>
                      <td>{l.becomes?.text ?? 'There is no such thing on this side.'}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
          <p className="lists">
            <a href={linked('GET /api/v1/report/{what}', { path: { what: 'diff' }, query: { ...sent, form: 'html' } })}>
              As a page that prints
            </a>
            <a
              href={linked('GET /api/v1/report/{what}', { path: { what: 'diff' }, query: { ...sent, form: 'csv' } })}
              download="difference.csv"
            >
              As CSV
            </a>
          </p>
          <StatedLine s={x.right} />
        </>
      )}
    </Page>
  )
}
