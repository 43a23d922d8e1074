import type { CouldLine } from '../api'

export interface CouldGroup {
  key: string
  /** Whom or what the lines are about, shown once. */
  head: string
  sub: string
  newcomer: boolean
  rows: { key: string; name: string; resource: string; who: string; verbs: string[]; first: string; now: boolean }[]
}

/** Lines party by party (of a resource) or thing by thing (of a party), with what one may do with the same on one row. */
export function groupsOf(lines: CouldLine[], by: 'who' | 'resource'): CouldGroup[] {
  const out = new Map<string, CouldGroup>()
  for (const l of lines) {
    const key = by === 'who' ? l.who : l.resource.split(':')[0]
    let g = out.get(key)
    if (!g) {
      const kind = l.kind + (l.newcomer ? ', nobody known yet' : '')
      g =
        by === 'who'
          ? {
              key,
              head: l.name || l.who,
              sub: l.name === l.who || l.who.startsWith('link:') ? kind : `${l.who}, ${kind}`,
              newcomer: l.newcomer,
              rows: [],
            }
          : { key, head: plural[key] ?? key, sub: '', newcomer: false, rows: [] }
      out.set(key, g)
    }
    const row = `${l.resource} ${l.now}`
    const have = g.rows.find((r) => r.key === row)
    const verb = l.action.split('.')[1].replaceAll('_', ' ')
    if (have) have.verbs.push(verb)
    else
      g.rows.push({
        key: row,
        name: l.resource_name || l.resource,
        resource: l.resource,
        who: l.who,
        verbs: [verb],
        first: l.action,
        now: l.now,
      })
  }
  return [...out.values()]
}

const plural: Record<string, string> = {
  space: 'Spaces',
  channel: 'Channels',
  folder: 'Folders',
  file: 'Files',
  page: 'Pages',
  tasklist: 'Task lists',
  report: 'Reports',
  dashboard: 'Dashboards',
  meeting: 'Meetings',
  person: 'People',
  calendar: 'Calendars',
  directory: 'The directory',
}

/** Who could take a step, in words. */
export function couldDo(n: number, outside: boolean): string {
  if (outside) return 'they do it themselves'
  return n === 1 ? '1 person could do this today' : `${n} people could do this today`
}
