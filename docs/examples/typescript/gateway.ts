// Asks before it lets through, and goes on through an outage: an answer is kept as long as it says, and while the service does
// not answer, what was answered within the last ten minutes counts; what was not is refused. Each line of the standard input is a
// question, as: party maren.holtveig@ilvane.example spaces.enter space loan-dossier
import { createInterface } from 'node:readline'
import { fromEnvironment, Problem } from './client'

const wexillum = fromEnvironment()
const enforces = ['sign_in' as const] // this gateway signs people in, and sees to nothing else
const outage = 10 * 60_000

interface Kept {
  yes: boolean
  at: number
  until: number
}
const kept = new Map<string, Kept>()

async function may(kind: string, id: string, action: string, on: string, what: string): Promise<string> {
  const question = [kind, id, action, on, what].join(' ')
  const old = kept.get(question)
  const now = Date.now()
  if (old && now < old.until) return `${old.yes ? 'yes' : 'no'}, kept`
  try {
    const said = await wexillum.call('post', '/access/v1/evaluation', {
      body: { subject: { type: kind, id }, action: { name: action }, resource: { type: on, id: what }, context: { enforces } },
    })
    const told = said.context
    kept.set(question, { yes: said.decision, at: now, until: now + (told?.keep_seconds ?? 0) * 1000 * Number(process.env.KEEP ?? '1') })
    const lacks = told?.unenforced?.length ? `, it would need ${told.unenforced.join(' and ')}` : ''
    return (said.decision ? 'yes' : 'no') + lacks
  } catch (e) {
    if (e instanceof Problem && e.status < 500) throw e // the question is wrong, or the token is
    if (old && now < old.at + outage) return `${old.yes ? 'yes' : 'no'}, as was known before the outage`
    return 'no, nobody answers'
  }
}

async function main() {
  for await (const line of createInterface({ input: process.stdin })) {
    const [kind = '', id = '', action = '', on = '', what = ''] = line.split(' ')
    console.log(await may(kind, id, action, on, what))
  }
}

main().catch((e: unknown) => {
  console.error(String(e))
  process.exit(1)
})
