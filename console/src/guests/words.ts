import type { DueStep } from '../api'

/** Marks of what happens; the word always stands beside them. */
export const marks: Record<DueStep['kind'], string> = {
  grant_ends: '◇',
  review_due: '?',
  suspended: '▽',
  removed: '✕',
  invitation_lapses: '○',
}
export const kindWords: Record<DueStep['kind'], string> = {
  grant_ends: 'grants end',
  review_due: 'grants are to be confirmed',
  suspended: 'records are suspended',
  removed: 'records are removed',
  invitation_lapses: 'invitations lapse',
}
export const stateWords: Record<string, string> = { active: 'active', invited: '○ invited', suspended: '▽ suspended' }
export const doWords: Record<string, string> = {
  extend: 'Extend',
  suspend: 'Suspend',
  bring_back: 'Bring back',
  end: 'Let go',
  remove: 'Remove now',
  end_grant: 'End the grant',
  confirm: 'Confirm',
  hand_over: 'Hand over',
  describe: 'Change',
  invite_again: 'Invite again',
  remind: 'Remind',
}
/** What somebody may want to look at in records. */
export const needWords: Record<string, string> = {
  time: 'asks for more time',
  mail: 'mail does not arrive',
  sponsor: 'no sponsor',
  grant: 'holds no grant',
  seen: 'not seen for 30 days',
  terms: 'terms not accepted',
}
