// Exports what each partner's people reach, a line for each action, as CSV (RFC 4180) on the standard output. A service token for
// reading is enough.
import { fromEnvironment } from './client'

const wexillum = fromEnvironment()
const field = (v: string) => (/[",\r\n]/.test(v) ? `"${v.replaceAll('"', '""')}"` : v)

async function partners(): Promise<string[]> {
  const ids: string[] = []
  for (let cursor = ''; ; ) {
    const page = await wexillum.call('get', '/api/v1/partners', { query: { cursor, limit: 100 } })
    ids.push(...page.partners.map((p) => p.id))
    if (page.next === '') return ids
    cursor = page.next
  }
}

async function main() {
  console.log('partner,party,action,resource,conditions,until')
  for (const partner of await partners()) {
    for (let cursor = ''; ; ) {
      const people = await wexillum.call('get', '/api/v1/partners/{id}/people', { path: { id: partner }, query: { cursor, limit: 100 } })
      for (const one of people.people) {
        const reach = await wexillum.call('get', '/api/v1/reach', { query: { who: one.address } })
        for (const line of reach.lines) {
          if (line.decision !== 'yes') continue
          console.log([partner, one.address, line.action, line.resource, line.conditions.join(' '), line.until ?? ''].map(field).join(','))
        }
      }
      if (people.next === '') break
      cursor = people.next
    }
  }
}

main().catch((e: unknown) => {
  console.error(String(e))
  process.exit(1)
})
