import { type Counted, type SystemSetting, type SystemView, type Thing } from '../api'
import { since, until, when } from '../parts/dates'

/** What differs for whom, in words. */
export function numbers(c: Counted): string {
  const one = (n: number, a: string, b: string) => (n === 0 ? '' : n === 1 ? `1 ${a}` : `${n.toLocaleString('en')} ${b}`)
  return (
    [
      one(c.granted, 'granted action', 'granted actions'),
      one(c.wide, 'action without a role', 'actions without a role'),
      one(c.newcomers, 'typical newcomer', 'typical newcomers'),
    ]
      .filter(Boolean)
      .join(', ') || 'nothing'
  )
}

export const modes: Record<SystemView['mode'], string> = {
  look: 'Looked at: nothing is written there.',
  carry: 'Carried: it is made to hold what is published.',
  paused: 'Paused: neither read nor written.',
}

/** How a setting stands, in a few words, and how it is drawn. */
export function standing(s: SystemSetting): { text: string; tone: 'right' | 'way' | 'wrong' | 'quiet' } {
  if (!s.there) return { text: 'not there', tone: 'quiet' }
  if (s.drift?.accepted) return { text: `changed there; accepted until ${until(s.drift.accepted)}`, tone: 'way' }
  if (s.drift) return { text: `changed there; found ${when(s.drift.since)}`, tone: 'wrong' }
  switch (s.state) {
    case 'waiting':
      return { text: 'waits to be written', tone: 'way' }
    case 'sent':
      return { text: 'is being written', tone: 'way' }
    case 'settling':
      return { text: s.counts ? `written; expected to count ${when(s.counts)}` : 'written; when it counts is not known', tone: 'way' }
    case 'failed':
      return { text: `failed: ${s.problem ?? ''}`, tone: 'wrong' }
    case 'by_hand':
      return { text: 'to be changed there by hand', tone: 'wrong' }
    case 'confirmed':
      return { text: s.confirmed ? `confirmed ${since(s.confirmed)}` : 'confirmed', tone: 'right' }
  }
  if (s.problem) return { text: `differs: ${s.problem}`, tone: 'wrong' }
  return s.found === s.meant || s.turn === 'same' ? { text: 'as meant', tone: 'right' } : { text: 'differs', tone: 'wrong' }
}

/** How a system stands as a whole. */
export function summary(v: SystemView): { text: string; tone: 'right' | 'way' | 'wrong' } {
  if (v.problem) return { text: `Not reached: ${v.problem}`, tone: 'wrong' }
  const kept = v.kinds.reduce((n, k) => ({ wrong: n.wrong + k.differ + k.drift + k.unknown - k.accepted, open: n.open + k.open }), {
    wrong: 0,
    open: 0,
  })
  const parts = [
    v.drift > 0 ? `${v.drift === 1 ? '1 setting was' : `${v.drift} settings were`} changed there` : '',
    v.differ - v.drift - v.open > 0 ? `${v.differ - v.drift - v.open} ${v.differ - v.drift - v.open === 1 ? 'differs' : 'differ'}` : '',
    v.open > 0 ? `${v.open} on ${v.open === 1 ? 'its' : 'their'} way` : '',
    kept.wrong > 0 ? `${kept.wrong.toLocaleString('en')} of its records ${kept.wrong === 1 ? 'is' : 'are'} not as meant` : '',
    kept.open > 0 ? `${kept.open.toLocaleString('en')} ${kept.open === 1 ? 'record is' : 'records are'} on the way` : '',
    v.braked > 0 ? `${v.braked} wait for somebody to let them go` : '',
  ].filter(Boolean)
  if (parts.length === 0)
    return { text: v.kinds.length > 0 ? 'All settings and records are as meant.' : 'All settings are as meant.', tone: 'right' }
  return { text: parts.join(', ') + '.', tone: v.drift > 0 || v.differ > v.open || kept.wrong > 0 || v.braked > 0 ? 'wrong' : 'way' }
}

/** A kind of inventory that a system may keep. */
export type KeptKind = SystemView['kinds'][number]['kind']

/** What the kinds of inventory are called. */
export const kindWords: Record<KeptKind, { title: string; one: string; many: string }> = {
  group: { title: 'Groups', one: 'group', many: 'groups' },
  person: { title: 'People of ours', one: 'person', many: 'people' },
  space: { title: 'Spaces', one: 'space', many: 'spaces' },
  guest: { title: 'Guests', one: 'guest', many: 'guests' },
  grant: { title: 'Roles that were given', one: 'role', many: 'roles' },
  link: { title: 'Links', one: 'link', many: 'links' },
  forwarder: { title: 'Forwarders', one: 'forwarder', many: 'forwarders' },
  meeting: { title: 'Meetings', one: 'meeting', many: 'meetings' },
}

export const recordStates: Record<string, string> = {
  '': 'What needs somebody',
  unknown: 'Unknown here',
  drift: 'Changed there',
  differs: 'Differs',
  open: 'On the way',
  confirmed: 'As meant',
  waiting: 'Waits to be written',
  sent: 'Is being written',
  settling: 'Written, not yet expected to count',
  failed: 'Failed',
}

const told: [string, string][] = [
  ['name', ''],
  ['address', ''],
  ['resource', 'on'],
  ['mailbox', 'from'],
  ['to', 'to'],
  ['item', 'on'],
  ['standing', ''],
  ['role', ''],
  ['right', ''],
  ['keep_copy', 'copy stays:'],
  ['set_by', 'set by'],
  ['owner', 'kept by'],
  ['sponsor', 'answered for by'],
  ['from', 'from'],
  ['until', 'until'],
  ['for', 'for'],
]

/** An entry in a line; a dash for none. */
export function thingText(t?: Thing): string {
  if (!t) return '–'
  return told
    .filter(([k]) => t[k])
    .map(([k, w]) =>
      k === 'standing'
        ? t[k] === 'in'
          ? 'lets in'
          : 'keeps out'
        : `${w ? w + ' ' : ''}${k === 'from' || k === 'until' ? t[k].slice(0, 10) : t[k].replace('_', ' ')}`,
    )
    .join(', ')
}
