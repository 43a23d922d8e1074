/** A page, where it stands in the order of the work, and the everyday words by which it is looked for. */
export interface Place {
  to: string
  name: string
  words?: string
  /** Who has it: readers (administrators, auditors, keepers), members, or both. */
  for?: 'readers' | 'members'
  /** The page of the help that is about it. */
  help: string
  /** Whether the address must be the whole of it. */
  end?: boolean
}

export interface Section {
  name: string
  pages: Place[]
}

/** Every page that is gone to from above, in the order of the work. */
export const sections: Section[] = [
  {
    name: 'Today',
    pages: [
      { to: '/', name: 'Today', help: 'README', end: true, words: 'home first page what waits' },
      { to: '/start', name: 'Begin', help: 'start', for: 'readers', words: 'set up start guided beginning first hour posture' },
    ],
  },
  {
    name: 'Guests',
    pages: [
      { to: '/guests', name: 'Guests', help: 'guests', for: 'readers', words: 'external users guest access accounts records sponsor' },
      { to: '/invite', name: 'Invite', help: 'guests', words: 'invite guest add external user' },
      { to: '/bundles', name: 'Bundles', help: 'bundles', words: 'set of access ask for request approve approval term who holds' },
      {
        to: '/reviews',
        name: 'Reviews',
        help: 'reviews',
        words: 'round confirm still needed recertify attest whether what is held is needed',
      },
      { to: '/check', name: 'Check a list', help: 'ask', words: 'check list addresses can be invited' },
      { to: '/due', name: 'Due', help: 'due', for: 'readers', words: 'expiry ends expire review term idle' },
      { to: '/lists', name: 'Lists', help: 'guests', for: 'readers', words: 'import export csv scim upload' },
    ],
  },
  {
    name: 'Partners',
    pages: [
      {
        to: '/partners',
        name: 'Partners',
        help: 'partners',
        for: 'readers',
        words: 'trust federation domains blocked barred stance letters connected organisations',
      },
      {
        to: '/feeds',
        name: 'People feeds',
        help: 'feeds',
        for: 'readers',
        words: 'scim provisioning sync synchronise directory automatic who left joins users',
      },
    ],
  },
  {
    name: 'Places',
    pages: [
      { to: '/spaces', name: 'Spaces', help: 'places', words: 'team site course report area drive folder publish a site for suppliers' },
      { to: '/meetings', name: 'Meetings', help: 'places', words: 'meeting wait to be let in sign-in domains passcode standing room' },
      { to: '/people', name: 'People', help: 'places', for: 'readers', words: 'our people staff roles forwarders contacts' },
      {
        to: '/matrix',
        name: 'What people may do',
        help: 'keep',
        for: 'readers',
        words: 'matrix chat across organisations private accounts calls presence forwarding calendars per person bulk',
      },
      { to: '/groups', name: 'Groups', help: 'places', for: 'readers', words: 'groups of people' },
      { to: '/links', name: 'Links', help: 'keep', words: 'anonymous link share' },
    ],
  },
  {
    name: 'Rules',
    pages: [
      { to: '/rules', name: 'Rules', help: 'keep', for: 'readers', words: 'settings policy limits defaults' },
      { to: '/exceptions', name: 'Exceptions', help: 'keep', for: 'readers', words: 'exception for one person' },
      { to: '/findings', name: 'Findings', help: 'keep', for: 'readers', words: 'problems warnings noticed' },
      { to: '/drafts', name: 'Drafts', help: 'drafts', for: 'readers', words: 'draft impact publish revision confirm two people' },
      {
        to: '/systems',
        name: 'Systems',
        help: 'systems',
        for: 'readers',
        words: 'servers connectors suite rollout drift what is found carried',
      },
      { to: '/settings', name: 'Settings', help: 'start', for: 'readers', words: 'organisation domains time zone terms of use' },
    ],
  },
  {
    name: 'Proof',
    pages: [
      {
        to: '/expectations',
        name: 'Expectations',
        help: 'expect',
        for: 'readers',
        words: 'must never always guard assert compliance proof watch alert',
      },
      { to: '/reach', name: 'Reach', help: 'reach', for: 'readers', words: 'what can they see access of a guest' },
      { to: '/numbers', name: 'In numbers', help: 'reach', for: 'readers', words: 'counts statistics' },
      { to: '/audience', name: 'Audience', help: 'reach', for: 'readers', words: 'who can reach who has access' },
      {
        to: '/could',
        name: 'What could be',
        help: 'could',
        for: 'readers',
        words: 'could come about without administrator potential path escalation way what if owners',
      },
      { to: '/spare', name: 'Spare access', help: 'could', for: 'readers', words: 'unused least privilege tighten nobody uses reduce' },
      { to: '/difference', name: 'Difference', help: 'reach', for: 'readers', words: 'compare why does one and not the other' },
      {
        to: '/evidence',
        name: 'Records',
        help: 'evidence',
        for: 'readers',
        words: 'evidence audit proof export signed sheet sign off attest',
      },
      { to: '/journal', name: 'Journal', help: 'run', for: 'readers', words: 'audit log history undo who changed what' },
    ],
  },
]

export function sees(p: Place, role: string): boolean {
  return p.for === undefined || (p.for === 'members') === (role === 'member')
}

/** Whether an address is a page or below it. */
export function under(p: Place, path: string): boolean {
  return path === p.to || (!p.end && path.startsWith(`${p.to}/`))
}

/** Where a section leads: its first page that somebody sees. */
export function sectionsFor(role: string): Section[] {
  return sections.map((s) => ({ ...s, pages: s.pages.filter((p) => sees(p, role)) })).filter((s) => s.pages.length > 0)
}

/** The section that an address belongs to. */
export function sectionOf(path: string, role: string): Section | undefined {
  const alias = path.startsWith('/revisions') ? '/drafts' : path.startsWith('/mine') ? '/' : path
  return sectionsFor(role).find((s) => s.pages.some((p) => under(p, alias)))
}

/** Where the help says something of a page. */
export function helpFor(path: string): string {
  if (path.startsWith('/answer') || path.startsWith('/ask')) return '/help/ask'
  const place = sections
    .flatMap((s) => s.pages)
    .find((p) => under(p, path.startsWith('/revisions') ? '/drafts' : path.startsWith('/mine') ? '/guests' : path))
  return place && place.to !== '/' ? `/help/${place.help}` : '/help'
}

/** Pages that everyday words may mean. */
export function findPages(text: string, role: string): Place[] {
  const words = text
    .toLowerCase()
    .split(/[^\p{L}\p{N}]+/u)
    .filter((w) => w.length > 1)
  if (words.length === 0) return []
  return sectionsFor(role)
    .flatMap((s) => s.pages)
    .map((p) => {
      const name = p.name.toLowerCase()
      const all = `${name} ${p.words ?? ''}`
      const hits = words.filter((w) => all.split(' ').some((a) => a === w || (w.length > 2 && a.startsWith(w)))).length
      return { p, score: hits + (words.some((w) => name.startsWith(w)) ? 1 : 0), all: hits * 2 >= words.length && hits > 0 }
    })
    .filter((x) => x.all)
    .sort((a, b) => b.score - a.score)
    .slice(0, 4)
    .map((x) => x.p)
}
