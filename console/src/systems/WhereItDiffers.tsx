import { useQuery } from '@tanstack/react-query'
import { call, type Audience } from '../api'

const atMost = 5000

/** Everybody who reaches a resource, page by page; more is left where they are too many. */
async function everybody(resource: string, all: boolean, q: string, found?: string) {
  const lines: Audience['lines'] = []
  let cursor: string | undefined
  do {
    const page: Audience = await call('GET /api/v1/audience', {
      query: { resource, all, q, limit: 500, cursor },
      headers: found ? { 'Wexillum-Found': found } : {},
    })
    lines.push(...page.lines)
    cursor = page.next || undefined
  } while (cursor && lines.length < atMost)
  return { lines, more: cursor !== undefined }
}

/**
 * Where the suite lets somebody through, or refuses them, otherwise than is meant; what differs stands first.
 * Nothing where all is the same, or no system was read.
 */
export function ReachDiffers({ who }: { who: string }) {
  const diff = useQuery({
    queryKey: ['diff', 'meant-found', who],
    queryFn: () => call('GET /api/v1/diff', { query: { who, meant_found: true } }),
    retry: false,
  })
  const lines = diff.data?.lines.filter((l) => l.change !== 'otherwise') ?? []
  if (!diff.data) return null
  if (lines.length === 0) return <p className="in-suite">The suite holds the same of all this.</p>
  return (
    <Differing
      title="Where the suite differs"
      rows={lines.map((l) => ({
        key: [l.change, l.action, l.resource, l.was?.text, l.becomes?.text].join(' '),
        through: l.change === 'gained',
        what: l.name || l.resource,
        action: l.action,
        meant: l.was?.text,
        found: l.becomes?.text,
      }))}
    />
  )
}

/** The same of everybody who reaches a resource. */
export function AudienceDiffers({ resource, all, q }: { resource: string; all: boolean; q: string }) {
  const ask = (found?: string) => everybody(resource, all, q, found)
  const three = useQuery({
    queryKey: ['audience', 'meant-found', resource, all, q],
    queryFn: async () => ({ meant: await ask(), most: await ask('most'), least: await ask('least') }),
    retry: false,
  })
  const x = three.data
  if (!x) return null
  if (x.meant.more || x.most.more || x.least.more)
    return <p className="in-suite">Too many reach this for the suite to be held against it here; find one of them above.</p>
  const of = (a: { lines: Audience['lines'] }) => new Map(a.lines.map((l) => [`${l.party} ${l.action} ${l.resource}`, l]))
  const [meant, loose, tight] = [of(x.meant), of(x.most), of(x.least)]
  const row = (key: string, through: boolean) => {
    const l = (through ? loose : meant).get(key)
    return {
      key,
      through,
      what: `${l?.name || l?.party}${all ? `, ${l?.resource_name || l?.resource}` : ''}`,
      action: l?.action ?? '',
      meant: through ? 'refused' : l?.cause.text,
      found: through ? l?.cause.text : 'refused',
    }
  }
  const rows = [
    ...[...loose.keys()].filter((k) => !meant.has(k)).map((k) => row(k, true)),
    ...[...meant.keys()].filter((k) => !tight.has(k)).map((k) => row(k, false)),
  ]
  if (rows.length === 0) return <p className="in-suite">The suite holds the same of all this.</p>
  return <Differing title="Where the suite differs" rows={rows} />
}

interface Row {
  key: string
  through: boolean
  what: string
  action: string
  meant?: string
  found?: string
}

function Differing({ title, rows }: { title: string; rows: Row[] }) {
  // what is said alike of several, who or which are not named, is said once
  const each = [...new Map(rows.map((r) => [r.key, r])).values()]
  const sorted = each.sort((a, b) => Number(b.through) - Number(a.through))
  return (
    <section aria-label={title} className="mb-3">
      <h2>{title}</h2>
      <div className="wide" role="region" aria-label={`${title}, line by line`} tabIndex={0}>
        <table className="table listing even-columns">
          <thead>
            <tr>
              <th scope="col">The suite</th>
              <th scope="col">What</th>
              <th scope="col">Meant</th>
              <th scope="col">Found</th>
            </tr>
          </thead>
          <tbody>
            {sorted.slice(0, 50).map((r) => (
              <tr key={r.key}>
                <td className={r.through ? 'gets-no' : ''}>{r.through ? 'lets through' : 'refuses'}</td>
                <th scope="row">
                  {r.what}
                  <span className="sub">{r.action}</span>
                </th>
                <td>{r.meant ?? 'refused'}</td>
                <td>{r.found ?? 'refused'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {sorted.length > 50 && <p className="quiet">and {sorted.length - 50} more.</p>}
    </section>
  )
}
