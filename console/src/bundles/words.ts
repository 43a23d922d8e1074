import type { Bundle } from '../api'

export const roles = ['view', 'contribute', 'manage'] as const

/** The roles below one. */
export function lower(role: string): string[] {
  const at = roles.indexOf(role as (typeof roles)[number])
  return at < 0 ? [] : roles.slice(0, at).reverse()
}

const approvers: Record<string, string> = {
  sponsor: 'whoever answers for them',
  owner: 'an owner of what it gives',
  keeper: 'a keeper',
  administrator: 'an administrator',
}

/** Who approves a bundle, in a phrase. */
export function approvedBy(b: Bundle): string {
  return (b.approval.length ? b.approval : ['keeper']).map((a) => approvers[a] ?? a).join(', then ')
}

/** Whose people may ask for it, in a phrase. */
export function whoseAsk(b: Bundle): string {
  if (b.closed) return 'nobody any more: it is closed'
  return [...b.partner_names, ...(b.others ? ['anybody who may be invited'] : [])].join(', ') || 'nobody yet'
}
