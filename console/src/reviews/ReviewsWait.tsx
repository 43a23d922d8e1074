import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { call } from '../api'
import { until } from '../parts/dates'

/** The rounds of review that ask something of whoever looks. */
export function ReviewsWait() {
  const list = useQuery({ queryKey: ['reviews'], queryFn: () => call('GET /api/v1/reviews') })
  const mine = (list.data?.rounds ?? []).filter((r) => r.mine > 0 && !r.closed)
  if (mine.length === 0) return null
  return (
    <section aria-labelledby="h-reviews">
      <h2 id="h-reviews">Is it still needed?</h2>
      <ul className="todo">
        {mine.map((r) => (
          <li key={r.id}>
            <Link to={`/reviews/${r.id}`}>
              {r.name}: {r.mine === 1 ? 'one line waits' : `${r.mine} lines wait`} for you, until {until(r.until)}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  )
}
