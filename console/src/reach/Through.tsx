import { since, until } from '../parts/dates'

/** Through what somebody reaches something, and since and until when: two cells of a table. */
export function Through({ l }: { l: { cause: { text: string }; residual?: boolean; since?: string; until?: string } }) {
  return (
    <>
      <td>
        {l.cause.text}
        {l.residual && <span className="residual"> Residual risk.</span>}
      </td>
      <td>
        {l.since ? since(l.since) : ''}
        {l.until ? ` until ${until(l.until)}` : ''}
      </td>
    </>
  )
}
