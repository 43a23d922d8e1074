import type { Feed, FeedOut } from '../api'

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

/** What is sent, or was, about somebody of ours. */
export const sent: Record<string, string> = {
  new: '+ comes in',
  taken_over: 'is there already: taken over',
  changed: 'changes',
  closed: '▼ is closed',
  removed: '▼ is removed',
  back: '▲ comes back',
  same: 'as it is',
  left_out: 'is left out',
  braked: '▼ waits for the brake',
  refused: '▼ not taken',
}

/** How a feed to a partner stands, in a word. */
export function outState(f: FeedOut): { text: string; bad: boolean } {
  if (f.shut) return { text: 'shut', bad: true }
  if (f.problem) return { text: 'fails', bad: true }
  if (f.state === 'held') return { text: 'held', bad: false }
  return { text: f.began && !f.ended ? 'being sent' : 'on', bad: false }
}

export const counted = (did: Record<string, number>) =>
  Object.entries(did)
    .map(([k, n]) => `${sent[k]}: ${n}`)
    .sort()
    .join('; ')
