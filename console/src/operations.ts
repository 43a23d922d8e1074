import { operations, type Operation } from './operations.gen'

/** How one request stands to drafts, as the contract says of its operation. */
export function towardsDraft(method: string, path: string): { draft: Operation['draft']; operation?: Operation } {
  const [where, params] = path.split('?')
  const preview = new URLSearchParams(params).get('preview') === 'true'
  const parts = where.split('/')
  let operation: Operation | undefined
  let named = ''
  let best = -1
  for (const o of operations) {
    const pattern = o.pattern.split('/')
    if (o.method !== method || pattern.length !== parts.length || !pattern.every((p, i) => p === parts[i] || p.startsWith('{'))) continue
    const same = pattern.filter((p, i) => p === parts[i]).length
    if (same <= best) continue
    best = same
    operation = o
    named = decodeURIComponent(parts[pattern.indexOf('{where}')] ?? '')
  }
  if (!operation) return { draft: method === 'GET' ? 'ask' : 'never' }
  let draft = operation.draft
  if (draft === 'policy' && !named.startsWith(operation.policyWhere ?? '')) draft = 'never'
  else if (preview && (draft === 'policy' || draft === 'preview')) draft = 'ask'
  else if (draft === 'preview') draft = 'never'
  return { draft, operation }
}
