import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { Button } from 'react-bootstrap'
import { call, type Question, type Trial } from '../api'
import { when, Wrong } from '../parts/bits'
import { useChange } from '../parts/change'
import { useSystems } from './SystemsPage'

/** The same question, asked of what the systems hold, beside what is meant. */
export function InTheSuite({ question, meant, role }: { question: Question; meant: 'yes' | 'no'; role: string }) {
  const reader = role !== 'member' && role !== ''
  const systems = useSystems(reader)
  const attempt = useChange<Trial>(() => call('POST /api/v1/trials', { body: question }))
  const service = question.action.split('.')[0]
  const v = systems.data?.systems.find((s) => s.services.includes(service) && s.read)
  const ask = (of: string) => call('POST /api/v1/ask', { body: question, headers: { 'Wexillum-Found': of } })
  const found = useQuery({
    queryKey: ['ask found', question, v?.since],
    queryFn: async () => ({ most: await ask('most'), least: await ask('least') }),
    enabled: v !== undefined && question.at === undefined,
  })
  if (!systems.data || systems.data.systems.length === 0 || question.at) return null
  if (!v)
    return (
      <p className="in-suite" data-testid="in-suite">
        Whether the suite does the same is not known: no system is looked at for {service}.
      </p>
    )
  if (!found.data) return null
  const { most, least } = found.data
  const says = most.decision !== least.decision ? 'unsure' : most.decision
  const same = says === meant
  return (
    <p className={`in-suite ${same ? '' : 'is-other'}`} data-testid="in-suite" data-found={says}>
      {same
        ? 'The suite holds the same'
        : says === 'unsure'
          ? 'What the suite does cannot be told for sure'
          : says === 'yes'
            ? 'The suite lets it through all the same'
            : 'The suite refuses it all the same'}
      : <Link to={`/systems/${v.id}`}>{v.name}</Link> was read {when(v.read ?? '')}.
      {v.open > 0 && !same && ' A change is on its way there.'}
      {most.not_looked_at &&
        ` It has nothing for ${most.not_looked_at.map((n) => `“${n}”`).join(', ')}, which this leans on: it may be otherwise there.`}{' '}
      {(role === 'administrator' || role === 'keeper') && v.tries.includes(question.action) && (
        <Button size="sm" variant="outline-primary" disabled={attempt.isPending} onClick={() => attempt.mutate()}>
          Try it there
        </Button>
      )}
      {attempt.data && (
        <span className="tried" role="status" data-outcome={attempt.data.outcome}>
          {tried(attempt.data)}
        </span>
      )}
      {attempt.error && <Wrong error={attempt.error} />}
    </p>
  )
}

/** What came of a trial, in a sentence. */
function tried(x: Trial): string {
  switch (x.outcome) {
    case 'not_tried':
      return `Not tried: ${x.says ?? ''}.`
    case 'silent':
      return `Nothing was answered, so this says nothing: ${x.says ?? ''}.`
    case 'too_early':
      return `Too early to tell, as a change is on its way; it says “${x.says ?? ''}”.`
  }
  const what = x.outcome === 'admitted' ? 'let through' : 'refused'
  if (x.theirs) return `Tried as ${x.from ?? 'somebody'}: it was refused at their end (“${x.says ?? ''}”); ours was not reached.`
  const as = x.from ? `Tried as ${x.from}: ` : 'Tried: '
  if (x.contradiction) return `${as}it was ${what} (“${x.says ?? ''}”). This contradicts what was read there.`
  return `${as}it was ${what} (“${x.says ?? ''}”), as was read there.`
}
