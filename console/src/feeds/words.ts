import type { Feed } from '../api'

/** What becomes of somebody whom a feed tells of. */
export const outcome: Record<string, string> = {
  new: '+ a record is made',
  taken_over: 'is here already: taken over',
  same: 'as it is',
  changed: 'name, language or place change',
  closed: '▼ closed: suspended',
  back: '▲ comes back',
  stays: 'stays suspended',
  nobody: 'not in use there, nobody here',
  refused: '▼ refused',
  removed: '▼ taken away',
  watched: 'watched',
  braked: '▼ braked',
}

export const braked = (f: Feed) => f.most !== undefined && f.closed_today >= f.most

/** How a feed stands, in a word. */
export function stateOf(f: Feed): { text: string; bad: boolean } {
  if (f.shut) return { text: 'shut', bad: true }
  if (braked(f)) return { text: 'braked', bad: true }
  return f.state === 'on' ? { text: 'on', bad: false } : { text: 'watched', bad: false }
}
