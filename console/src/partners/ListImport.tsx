import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { AskDialog } from '../parts/AskDialog'
import { call, type DomainsImported } from '../api'
import { TextOrFile } from '../parts/TextOrFile'
import { useRefresh } from '../parts/change'

const shownAtOnce = 200

/** Takes a list of domains: what would become of every line, then all or only the good ones. */
export function ListImport({
  list,
  partner,
  title,
  close,
}: {
  list: 'partner' | 'barred' | 'personal'
  partner?: string
  title: string
  close: () => void
}) {
  const refresh = useRefresh()
  const [text, setText] = useState('')
  const [replace, setReplace] = useState(false)
  const [found, setFound] = useState<DomainsImported>()
  const run = useMutation({
    mutationFn: (how: { preview?: boolean; only_good?: boolean }) =>
      call('POST /api/v1/domains/import', { query: { list, partner, replace, ...how }, body: text, type: 'text/csv' }),
    onSuccess: (x) => {
      setFound(x)
      if (x.written) void refresh()
    },
  })
  const n = (k: string) => found?.counts[k] ?? 0
  const lines = (found?.lines ?? []).filter((l) => l.result !== 'same')
  const changes = n('new') + n('changed') + n('removed')
  return (
    <AskDialog
      policy
      wide
      title={title}
      leave={found?.written ? 'Close' : 'Cancel'}
      submit={
        !found
          ? 'See what would change'
          : n('refused') > 0
            ? `Take the ${changes} good ones`
            : `Take ${changes === 1 ? 'it' : `all ${changes}`}`
      }
      disabled={run.isPending || (found !== undefined && (found.written || changes === 0))}
      error={run.error}
      close={close}
      onSubmit={() => run.mutate(!found ? { preview: true } : { only_good: n('refused') > 0 })}
    >
      <TextOrFile
        id="li-text"
        rows={7}
        label={
          <>
            An entry on each line, or CSV with the columns name, subdomains
            {list === 'barred' ? ', reason' : list === 'partner' ? ', look_alike' : ''}
          </>
        }
        value={text}
        placeholder={
          list === 'barred' ? '*.rude.example # sends junk\nlost.phone@pallowick.example # reported' : 'werft.example\n*.lab.werft.example'
        }
        change={(t) => {
          setText(t)
          setFound(undefined)
        }}
      >
        <Form.Check
          id="li-replace"
          label="in place of what is kept"
          checked={replace}
          onChange={(e) => {
            setReplace(e.target.checked)
            setFound(undefined)
          }}
        />
      </TextOrFile>
      {found && (
        <div data-testid="imported">
          <p role="status" className="mt-3">
            {['new', 'changed', 'removed', 'same', 'refused']
              .filter((k) => n(k) > 0)
              .map((k) => `${n(k)} ${k}`)
              .join(', ')}
            . {changes > 0 && `That concerns ${found.concerns.guests} guests with ${found.concerns.grants} grants. `}
            {found.written ? <b>Written.</b> : found.preview ? 'Nothing is written yet.' : <b>Nothing was written: lines are refused.</b>}
          </p>
          {lines.length > 0 && (
            <div className="wide import-lines" role="region" aria-label="What becomes of the lines" tabIndex={0}>
              <table className="table listing">
                <thead>
                  <tr>
                    <th scope="col" className="num">
                      Line
                    </th>
                    <th scope="col">Entry</th>
                    <th scope="col">Result</th>
                    <th scope="col">Cause</th>
                  </tr>
                </thead>
                <tbody>
                  {lines.slice(0, shownAtOnce).map((l, i) => (
                    <tr key={i}>
                      <td className="num">{l.line || ''}</td>
                      <th scope="row">
                        {l.subdomains ? '*.' : ''}
                        {l.name || l.text}
                      </th>
                      <td className={l.result === 'refused' ? 'gets-no' : ''}>{l.result}</td>
                      <td>{l.cause}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
          {lines.length > shownAtOnce && <p className="quiet">{lines.length - shownAtOnce} more.</p>}
        </div>
      )}
    </AskDialog>
  )
}
