import { useQuery } from '@tanstack/react-query'
import { call, type Question, type RemedyOption } from '../api'
import { until, Waiting, whoWord, Wrong } from '../parts/bits'
import { AskFor } from '../drafts/Requests'
import { useTake } from '../drafts/take'
import { Proposal } from '../parts/Proposal'

const n = (x: number, one: string, many: string) => (x === 1 ? `1 ${one}` : `${x.toLocaleString('en-GB')} ${many}`)

function Opens({ o }: { o: RemedyOption }) {
  const c = o.counts
  if (!c) return <p className="remedy-opens">Counting what else it would open …</p>
  const parts = [
    c.newcomers && n(c.newcomers, 'typical newcomer', 'typical newcomers'),
    c.parties && n(c.parties, 'known party', 'known parties'),
    c.granted && n(c.granted, 'granted action', 'granted actions'),
    c.wide_pairs && n(c.wide_pairs, 'pair of wide ones', 'pairs of wide ones'),
    c.outward && n(c.outward, 'thing our people may do elsewhere', 'things our people may do elsewhere'),
  ].filter(Boolean)
  return (
    <p className="remedy-opens">
      {parts.length ? (
        <>
          It opens <b>{parts.join(', ')}</b>
        </>
      ) : (
        'It opens nothing else to anybody who is counted'
      )}
      {c.until ? `, until ${until(c.until)}` : ''}.{c.not_counted && ` Not counted: ${c.not_counted.join('; ')}.`}
    </p>
  )
}

/** What would make a refused question a yes: complete sets, the least open first. */
export function Remedies({ question, role, asked }: { question: Question; role: string; asked: string }) {
  const key = JSON.stringify(question)
  // What there is comes at once; what each would open follows.
  const first = useQuery({ queryKey: ['remedies', key, asked], queryFn: () => call('POST /api/v1/remedies', { body: { question } }) })
  const counted = useQuery({
    queryKey: ['remedies-counted', key, asked],
    queryFn: () => call('POST /api/v1/remedies', { body: { question, counts: true } }),
    enabled: (first.data?.options.length ?? 0) > 0,
  })
  const take = useTake('POST /api/v1/remedies/draft', (option: string) => ({ question, option }))
  const x = counted.data ?? first.data
  if (first.error) return <Wrong error={first.error} />
  if (!x) return <Waiting what="Looking for what would help" />
  const may = role === 'administrator' || role === 'keeper'
  return (
    <section className="remedies" aria-labelledby="h-remedies">
      <h2 id="h-remedies">What would make it a yes</h2>
      {take.error && <Wrong error={take.error} />}
      {x.options.length === 0 && (
        <>
          <p>Nothing that could be changed does:</p>
          <ul>
            {x.hopeless.map((h) => (
              <li key={h.account + h.text}>
                {h.text} {h.next}
              </li>
            ))}
          </ul>
        </>
      )}
      <ol>
        {x.options.map((o, i) => (
          <Proposal
            key={o.id}
            n={i + 1}
            changes={o.changes.map((c) => ({
              text: c.text,
              beside: (
                <>
                  <span className={`side side-${c.side}`}>{c.side === 'theirs' ? 'theirs' : 'ours'}</span>{' '}
                  <span className="quiet">
                    {whoWord(c.who)}
                    {c.until ? `, until ${until(c.until)}` : ''}
                  </span>
                </>
              ),
            }))}
            weighs={<Opens o={o} />}
            take={may && o.changes.some((c) => c.policy) ? () => take.mutate(o.id) : undefined}
            waits={take.isPending}
          />
        ))}
      </ol>
      {x.options.length > 0 && role !== 'auditor' && <AskFor question={question} />}
    </section>
  )
}
