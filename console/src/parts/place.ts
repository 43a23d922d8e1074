/** What a thing is called in "Go to the …". */
const labels: Record<string, string> = {
  space: 'space',
  partner: 'partner',
  person: 'person',
  mailbox: 'person',
  exception: 'exception',
  bundle: 'bundle',
  review: 'review',
  expectation: 'expectation',
  guest: 'guest',
  rule: 'rule',
  link: 'link',
  partners: 'partners',
  system: 'system',
}

export interface Place {
  to: string
  label: string
}

/** Where a thing, written kind:id, can be looked at and changed; nothing where it has no page. */
export function placeOf(about: string): Place | undefined {
  const [kind, ...rest] = about.split(':')
  const id = rest.join(':')
  const to = (() => {
    switch (kind) {
      case 'space':
        return `/spaces/${id}`
      case 'partner':
        return `/partners/${id}`
      case 'partners':
        return '/partners'
      case 'person':
      case 'mailbox':
        return `/people/${id}`
      case 'exception':
        return `/exceptions#${id}`
      case 'bundle':
        return `/bundles/${id}`
      case 'review':
        return `/reviews/${id}`
      case 'expectation':
        return `/expectations/${id}`
      case 'guest':
        return `/guests/${encodeURIComponent(id)}`
      case 'system':
        return `/systems/${id}`
      case 'rule':
        return `/rules?rule=${id}`
      case 'link':
        return `/links?q=${id}`
    }
    return /^[a-z]+\.[a-z_]+$/.test(about) ? `/rules?rule=${about}` : undefined
  })()
  return to ? { to, label: `Go to the ${labels[kind] ?? 'rule'}` } : undefined
}
