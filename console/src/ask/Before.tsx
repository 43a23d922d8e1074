import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { call } from '../api'
import { Waiting, when, Wrong } from '../parts/bits'

/** Since when a question is answered as it is, and how before: looked up when somebody asks. */
export function Before({ who, action, resource }: { who: string; action: string; resource: string }) {
  const [asked, setAsked] = useState('')
  const key = `${who} ${action} ${resource}`
  const found = useQuery({
    queryKey: ['history', key],
    queryFn: () => call('GET /api/v1/history', { query: { who, action, resource } }),
    enabled: asked === key,
    retry: false,
  })
  if (asked !== key)
    return (
      <p className="before">
        <Button size="sm" variant="link" onClick={() => setAsked(key)}>
          Since when, and through what?
        </Button>
      </p>
    )
  if (found.error) return <Wrong error={found.error} />
  if (!found.data) return <Waiting what="Going through what was recorded" />
  return (
    <section aria-labelledby="h-before" className="before">
      <h2 id="h-before">Since when</h2>
      <ol className="expect-past">
        {found.data.spells.map((s) => (
          <li key={s.from} className={s.decision === 'yes' ? 'is-held' : 'is-broken'}>
            <b>{s.decision}</b> {s.first ? `already ${when(s.from)}, when records begin` : `since ${when(s.from)}`}
            {s.until && `, until ${when(s.until)}`}
            {!s.first && (
              <span className="quiet sub">
                {s.text}
                {s.change !== undefined && ` · change ${s.change} of the journal`}
              </span>
            )}
          </li>
        ))}
      </ol>
    </section>
  )
}
