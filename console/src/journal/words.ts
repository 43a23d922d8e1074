import { type JournalEntry } from '../api'
import { until } from '../parts/bits'

type Leaf = string | number | boolean | null | Leaf[] | { [k: string]: Leaf }

/** The page of what an entry is about; none where it has none. */
export function pageOf(e: JournalEntry): string | undefined {
  const id = encodeURIComponent(e.id)
  switch (e.kind) {
    case 'partner':
      return `/partners/${id}`
    case 'person':
      return `/people/${id}`
    case 'space':
      return `/spaces/${id}`
    case 'meeting':
      return `/meetings/${id}`
    case 'guest':
      return `/guests/${id}`
    case 'rule':
      return `/rules?rule=${id}`
    case 'draft':
      return `/drafts/${id}`
    case 'system':
      return `/systems/${id}`
    case 'system_record': {
      const [system, kind] = e.id.split(' ')
      return `/systems/${encodeURIComponent(system)}/${kind}`
    }
    case 'noticed':
      return '/findings'
    case 'system_setting':
      return `/systems/${encodeURIComponent(e.id.split(' ')[0])}`
    case 'exception':
      return `/exceptions#${id}`
    case 'grant':
      if (e.id.startsWith('partner:')) return `/partners/${encodeURIComponent(e.id.split(' ')[0].slice('partner:'.length))}`
      if (e.id.startsWith('domain:')) return undefined
      return e.id.startsWith('group:') ? '/groups' : `/guests/${encodeURIComponent(e.id.split(' ')[0])}`
    default:
      return undefined
  }
}

/** Says what an entry changed, from what to what. */
export function saidOf(e: JournalEntry): string {
  if (e.kind === 'draft' && e.now) return ofDraft(e.was, e.now)
  if (e.kind === 'step' && e.now) return ofStep(e.now)
  if (e.kind === 'sign_in' && e.now) return ofSignIn(e.now)
  if (e.kind === 'system_record' && e.who !== 'wexillum') return ofDecided(e)
  if ((e.kind === 'system_setting' && e.now) || e.kind === 'system_record') return ofSetting(e)
  if (e.kind === 'sessions') return 'signed out everywhere'
  if (e.kind === 'noticed') return ofNoticed(e)
  return difference(e.was, e.now)
}

const ways: Record<string, string> = {
  console: ' to the console',
  client: ' with the client',
  code: ' with a code',
  partner: ' with their own organisation’s sign-in',
}

/** Says what a finding that came says, or said before it went. */
function ofNoticed(e: JournalEntry): string {
  const x = JSON.parse(e.now ?? e.was ?? '{}') as { cause?: string; came?: number; gone?: number }
  if (x.cause === undefined) return `${x.came ?? 0} came, ${x.gone ?? 0} went`
  return `${e.now ? 'noticed' : 'no longer'}: ${x.cause}`
}

/** Says how the setting of a system stands now, as the journal has it in words. */
function ofSetting(e: JournalEntry): string {
  return e.why ?? ''
}

/** Says what somebody decided about a record of a system. */
function ofDecided(e: JournalEntry): string {
  if (!e.was && !e.now) return ''
  if (!e.now) return 'to be taken away there'
  if (!e.was) return 'to be written there'
  return e.was === e.now ? 'let be as it stands there' : `to be written there; ${difference(e.was, e.now)}`
}

/** Says who came in, how and from where, or was refused. */
function ofSignIn(doc: string): string {
  try {
    const x = JSON.parse(doc) as { way?: string; from?: string; result?: string }
    return `${x.result === 'in' ? 'signed in' : 'was refused, signing in'}${ways[x.way ?? ''] ?? ''}${x.from ? `, from ${x.from}` : ''}`
  } catch {
    return 'signed in'
  }
}

/** Says what was carried out, and when it was due. */
function ofStep(doc: string): string {
  try {
    const x = JSON.parse(doc) as { kind: string; at: string; role?: string; resource?: string; late?: string }
    return `${x.kind.replaceAll('_', ' ')}${x.resource ? `: ${x.role} on ${x.resource}` : ''}, due ${until(x.at)}${x.late ? ', late' : ''}`
  } catch {
    return 'carried out'
  }
}

/** Says of a draft what became of it; what it changes stands on its page. */
function ofDraft(was: string | undefined, now: string): string {
  try {
    const edits = (d: { edits?: unknown[] } | undefined) => d?.edits?.length ?? 0
    const a = was ? (JSON.parse(was) as { state: string; edits?: unknown[] }) : undefined
    const b = JSON.parse(now) as { name: string; state: string; edits?: unknown[]; published?: number }
    const said = [b.name]
    const count = (n: number) => (n === 1 ? '1 edit' : `${n} edits`)
    if (a?.state !== b.state) said.push(`${a ? `${a.state} → ` : ''}${b.published ? `published as revision ${b.published}` : b.state}`)
    if (edits(a) !== edits(b)) said.push(a ? `${count(edits(a))} → ${count(edits(b))}` : count(edits(b)))
    else if (a && a.state === b.state) said.push('an edit was changed')
    return said.join(', ')
  } catch {
    return 'changed'
  }
}

/** Says in short what changed between two docs. */
function difference(was?: string, now?: string): string {
  try {
    const whole = (doc: string) =>
      Object.entries(JSON.parse(doc) as Record<string, Leaf>)
        .map(([k, v]) => `${k}: ${flat(v)}`)
        .join('; ')
    if (!was && !now) return 'done'
    if (!was) return `made${whole(now!) ? `: ${whole(now!)}` : ''}`
    if (!now) return `removed${whole(was) ? `; it was ${whole(was)}` : ''}`
    const a = JSON.parse(was) as Record<string, Leaf>
    const b = JSON.parse(now) as Record<string, Leaf>
    const out: string[] = []
    for (const k of new Set([...Object.keys(a), ...Object.keys(b)])) {
      const x = flat(a[k])
      const y = flat(b[k])
      if (x !== y) out.push(`${k}: ${x} → ${y}`)
    }
    return out.join('; ') || 'the same'
  } catch {
    return 'changed'
  }
}

const flat = (v: Leaf | undefined): string =>
  v === undefined || v === null
    ? '–'
    : Array.isArray(v)
      ? v.map(flat).join(', ')
      : typeof v === 'object'
        ? Object.entries(v)
            .map(([k, x]) => `${k} ${flat(x)}`)
            .join(', ')
        : String(v)
