import { useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { call } from '../api'
import { when, Wrong } from '../parts/bits'
import { useChange } from '../parts/change'

/** A browser and its system, of what it calls itself. */
function browser(agent?: string): string {
  if (!agent) return 'an unknown program'
  const of = (list: [RegExp, string][]) => list.find(([r]) => r.test(agent))?.[1]
  const name = of([
    [/Firefox\//, 'Firefox'],
    [/Edg\//, 'Edge'],
    [/Chrome\//, 'Chromium'],
    [/Safari\//, 'Safari'],
  ])
  const system = of([
    [/Android/, 'Android'],
    [/iPhone|iPad/, 'iOS'],
    [/Windows/, 'Windows'],
    [/Mac OS/, 'macOS'],
    [/Linux/, 'Linux'],
  ])
  return name ? `${name}${system ? ` on ${system}` : ''}` : agent.slice(0, 40)
}

/** Every session of one's own in the console, each of which can be ended. */
export function Sessions() {
  const list = useQuery({ queryKey: ['sessions'], queryFn: () => call('GET /api/v1/sessions') })
  const end = useChange(
    (id: string) => call('DELETE /api/v1/sessions/{id}', { path: { id } }),
    () => void list.refetch(),
  )
  return (
    <>
      {(list.error ?? end.error) && <Wrong error={list.error ?? end.error} />}
      <ul className="domains own-sessions">
        {(list.data?.sessions ?? []).map((x) => (
          <li key={x.id}>
            <span>
              <b>{browser(x.agent)}</b>
              {x.this && ' (this one)'}
              <span className="sub">
                since {when(x.began)}
                {x.from && `, from ${x.from}`}
                {x.used && `; used last ${when(x.used)}`}
              </span>
            </span>
            {!x.this && (
              <Button
                size="sm"
                variant="link"
                disabled={end.isPending}
                onClick={() => end.mutate(x.id)}
                aria-label={`End it: the session that began ${when(x.began)}`}
              >
                End it
              </Button>
            )}
          </li>
        ))}
      </ul>
    </>
  )
}
