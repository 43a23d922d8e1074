import { query, type Question } from '../api'

/** The address of the page that answers a question. */
export function questionPath(q: Question): string {
  return `/ask${query({ who: q.subject, action: q.action, resource: q.resource, at: q.at, address: q.context?.address, presenter: q.context?.presenter })}`
}
