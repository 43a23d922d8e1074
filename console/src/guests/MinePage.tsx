import { Link } from 'react-router'
import type { Session } from '../api'
import { Requests } from '../drafts/Requests'
import { StandsIn } from '../home/Away'
import { ReviewsWait } from '../reviews/ReviewsWait'
import { GuestsPage } from './GuestsPage'
import { Waits } from './Wishes'

/** A member's part: what waits for them, their guests, their spaces, their requests. */
export function MinePage({ session }: { session: Session }) {
  return (
    <>
      <div className="page mine-waits">
        <Waits />
        <StandsIn session={session} />
        <Requests session={session} />
        <ReviewsWait />
      </div>
      <GuestsPage session={session} mine />
      <div className="page">
        <p>
          <Link to="/spaces">My spaces</Link>: who is in them, and what you may set in those you own. Ask above who may do what, and why
          not.
        </p>
      </div>
    </>
  )
}
