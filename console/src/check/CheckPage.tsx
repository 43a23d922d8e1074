import { useRef, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { check, type CheckLine, type CheckSummary } from '../api'
import { Combo } from '../parts/Combo'
import { Page, whoWord, Wrong } from '../parts/bits'

const verdicts = {
  yes: '▲ yes',
  no: '▼ no',
  already: '= already',
  duplicate: '= twice',
  own: '▼ our own',
  malformed: '▼ malformed',
} as const
const shownAtOnce = 200

/** Checks a pasted or chosen list of addresses before anything is sent. */
export function CheckPage() {
  const [list, setList] = useState('')
  const [column, setColumn] = useState('')
  const [bundle, setBundle] = useState('')
  const [into, setInto] = useState('')
  const [lines, setLines] = useState<CheckLine[]>([])
  const [summary, setSummary] = useState<CheckSummary>()
  const [done, setDone] = useState(0)
  const [error, setError] = useState<unknown>()
  const [only, setOnly] = useState('')
  const running = useRef<AbortController>(null)
  const [busy, setBusy] = useState(false)
  const run = async (e: FormEvent) => {
    e.preventDefault()
    const control = new AbortController()
    running.current = control
    setBusy(true)
    setError(undefined)
    setSummary(undefined)
    setOnly('')
    const found: CheckLine[] = []
    let told = 0
    try {
      await check(
        {
          into: bundle.trim() ? undefined : into.trim() || undefined,
          bundle: bundle.trim() || undefined,
          column: column.trim() || undefined,
        },
        list,
        (x) => {
          if (x.address) found.push(x.address)
          if (x.summary) setSummary(x.summary)
          if (found.length - told >= 500) {
            told = found.length
            setDone(told)
          }
        },
        control.signal,
      )
    } catch (err) {
      if (!control.signal.aborted) setError(err)
    }
    setLines(found)
    setDone(found.length)
    setBusy(false)
  }
  const shown = lines.filter((l) => !only || l.verdict === only || l.causes.some((c) => c.code === only))
  const csv = () => {
    const cell = (s: string) => `"${(/^[=+\-@\t\r]/.test(s) ? `'${s}` : s).replaceAll('"', '""')}"`
    const rows = shown.map((l) =>
      [
        String(l.line),
        l.verdict,
        l.address ?? '',
        l.kind ?? '',
        l.partner ?? '',
        l.causes.map((c) => c.code).join(' '),
        l.next ?? l.reason ?? '',
        l.text,
      ]
        .map(cell)
        .join(','),
    )
    const url = URL.createObjectURL(
      new Blob([['line,verdict,address,kind,partner,causes,next,text', ...rows].join('\r\n') + '\r\n'], { type: 'text/csv' }),
    )
    const a = document.createElement('a')
    a.href = url
    a.download = 'checked.csv'
    a.click()
    URL.revokeObjectURL(url)
  }
  return (
    <Page
      title="Check a list"
      lead="Paste the addresses that somebody wants to invite. You see for each whether it can be invited, and everything that blocks it. Nothing is sent or changed."
    >
      <Form onSubmit={(e) => void run(e)} className="check-form" aria-label="Check a list">
        <Form.Group controlId="c-list">
          <Form.Label>Addresses</Form.Label>
          <Form.Control
            as="textarea"
            rows={6}
            required
            value={list}
            placeholder={'Ella Brook <ella@homepost.example>\ntom@parlourmail.example, new@ilvane.example'}
            onChange={(e) => setList(e.target.value)}
          />
        </Form.Group>
        <div className="check-side">
          <Form.Group controlId="c-file">
            <Form.Label>or a file</Form.Label>
            <Form.Control
              size="sm"
              type="file"
              accept=".txt,.csv,text/*"
              onChange={(e) => {
                const f = (e.target as HTMLInputElement).files?.[0]
                if (f) void f.text().then(setList)
              }}
            />
          </Form.Group>
          <Form.Group controlId="c-column">
            <Form.Label>Column, where it is CSV</Form.Label>
            <Form.Control size="sm" value={column} onChange={(e) => setColumn(e.target.value)} />
          </Form.Group>
          <div className="plain-combo">
            <Combo label="Into a space" kind="resource" action="spaces.enter" value={into} onChange={setInto} placeholder="the directory" />
          </div>
          <div className="plain-combo">
            <Combo label="or with a bundle in mind" kind="bundle" value={bundle} onChange={setBundle} placeholder="none" />
          </div>
          {busy ? (
            <Button size="sm" variant="outline-danger" onClick={() => running.current?.abort()}>
              Stop ({done})
            </Button>
          ) : (
            <Button size="sm" type="submit">
              Check
            </Button>
          )}
        </div>
      </Form>
      {error !== undefined && <Wrong error={error} />}
      {summary && (
        <div className="check-found" data-testid="checked">
          <p role="status">
            <b>{summary.total}</b> addresses into {summary.into}, invited by {summary.as}.
          </p>
          <div className="accounts" role="group" aria-label="Show">
            <button type="button" className="account" aria-pressed={only === ''} onClick={() => setOnly('')}>
              all {summary.total}
            </button>
            {Object.entries(verdicts).map(([v, word]) =>
              summary.verdicts[v] ? (
                <button key={v} type="button" className="account" aria-pressed={only === v} onClick={() => setOnly(v)}>
                  {word} {summary.verdicts[v]}
                </button>
              ) : null,
            )}
            {Object.entries(summary.causes)
              .sort((a, b) => b[1] - a[1])
              .map(([c, n]) => (
                <button key={c} type="button" className="account" aria-pressed={only === c} onClick={() => setOnly(c)}>
                  {c.replaceAll('_', ' ')} {n}
                </button>
              ))}
            <Button size="sm" variant="link" onClick={csv}>
              These as CSV
            </Button>
          </div>
          <div className="wide" role="region" aria-label="What was found" tabIndex={0}>
            <table className="table listing">
              <thead>
                <tr>
                  <th scope="col" className="num">
                    Line
                  </th>
                  <th scope="col">Address</th>
                  <th scope="col">Verdict</th>
                  <th scope="col">Every cause, and what to do</th>
                </tr>
              </thead>
              <tbody>
                {shown.slice(0, shownAtOnce).map((l, i) => (
                  <tr key={i}>
                    <td className="num">{l.line}</td>
                    <th scope="row">
                      {l.address ?? l.text}
                      <span className="sub">
                        {l.kind}
                        {l.partner ? `, ${l.partner}` : ''}
                      </span>
                    </th>
                    <td className={l.verdict === 'no' || l.verdict === 'malformed' || l.verdict === 'own' ? 'gets-no' : ''}>
                      {verdicts[l.verdict]}
                    </td>
                    <td>
                      {l.reason}
                      {l.conditions.length > 0 && `with ${l.conditions.join(', ').replaceAll('_', ' ')}`}
                      {l.causes.map((c, k) => (
                        <div key={k}>
                          {c.text} <span className={`side side-${c.side}`}>{c.side}</span>{' '}
                          <span className="quiet">
                            {c.who ? `${whoWord(c.who)}: ` : ''}
                            {c.next}
                          </span>
                        </div>
                      ))}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {shown.length > shownAtOnce && <p className="quiet">{shown.length - shownAtOnce} more; take them as CSV.</p>}
        </div>
      )}
    </Page>
  )
}
