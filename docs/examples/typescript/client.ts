// A client by the contract: paths, parameters, bodies and answers are checked against contract.d.ts, which is made from the
// service's own document: openapi-typescript $WEXILLUM_SERVER/api/v1/openapi.yaml -o contract.d.ts
import type { paths } from './contract'

type Verb = 'get' | 'post'
type Op<P extends keyof paths, V extends Verb> = paths[P][V]
type Json<T> = T extends { content: { 'application/json': infer B } } ? B : never
type Answer<O> = O extends { responses: { 200: infer R } } ? Json<R> : never
type Body<O> = O extends { requestBody: infer R } ? Json<R> : undefined
type Params<O, In extends 'path' | 'query'> = O extends { parameters: { [k in In]: infer P } } ? P : unknown

export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
  ) {
    super(`${status}: ${detail}`)
  }
}

/** A call to the service; what it refuses is thrown as a Problem (RFC 9457), what does not answer as any other error. */
export class Client {
  constructor(
    private readonly server: string,
    private readonly token: string,
  ) {}

  async call<P extends keyof paths, V extends Verb>(
    verb: V,
    path: P,
    the: { path?: Params<Op<P, V>, 'path'>; query?: Params<Op<P, V>, 'query'>; body?: Body<Op<P, V>> } = {},
  ): Promise<Answer<Op<P, V>>> {
    const at = String(path).replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(String((the.path as Record<string, unknown>)[name])))
    const query = new URLSearchParams(Object.entries(the.query ?? {}).filter(([, v]) => v !== undefined).map(([k, v]) => [k, String(v)]))
    const answer = await fetch(`${this.server}${at}${query.size > 0 ? `?${query}` : ''}`, {
      method: verb.toUpperCase(),
      headers: { Authorization: `Bearer ${this.token}`, ...(the.body === undefined ? {} : { 'Content-Type': 'application/json' }) },
      body: the.body === undefined ? undefined : JSON.stringify(the.body),
      signal: AbortSignal.timeout(10_000),
    })
    const said: unknown = await answer.json()
    if (!answer.ok) throw new Problem(answer.status, String((said as { detail?: string; title?: string }).detail ?? (said as { title?: string }).title))
    return said as Answer<Op<P, V>>
  }
}

export function fromEnvironment(): Client {
  const server = process.env.WEXILLUM_SERVER ?? 'http://127.0.0.1:8470'
  const token = process.env.WEXILLUM_TOKEN
  if (!token) throw new Error('set WEXILLUM_TOKEN to a service token (wexillum token make NAME --purpose …)')
  return new Client(server, token)
}
