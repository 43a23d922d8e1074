import { Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { type Expectation } from '../api'
import { inDraft } from '../drafts/quick'
import { when } from '../parts/bits'
import { ahead, Counterexamples } from './words'

/** What a change would break of what is expected. */
export function Breaks({ list }: { list: Expectation[] }) {
  return (
    <section className="breaks" aria-label="What it breaks">
      <h3>It breaks what is expected</h3>
      {list.map((x) => (
        <div key={x.id}>
          <p>
            <Link to={`/expectations/${x.id}`}>{x.says}</Link>{' '}
            <span className="quiet">
              {ahead(x) && `From ${when(x.from!)} on; `}
              {x.reason}
            </span>
          </p>
          <Counterexamples of={x} most={3} shows={!!inDraft()} />
          {(x.count ?? 0) > 3 && <p className="quiet">{x.count} in all.</p>}
        </div>
      ))}
      {!inDraft() && <p className="quiet">Why is answered in the draft: work in it, and look here again.</p>}
    </section>
  )
}

/** Why something is published all the same. */
export function Despite({ value, set }: { value: string; set: (v: string) => void }) {
  return (
    <Form.Group controlId="p-despite">
      <Form.Label>
        Why all the same <span className="quiet">it breaks what is expected; who answers for that is told</span>
      </Form.Label>
      <Form.Control size="sm" value={value} required maxLength={1000} onChange={(e) => set(e.target.value)} />
    </Form.Group>
  )
}
