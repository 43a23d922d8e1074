import { Link } from 'react-router'
import type { Session } from '../api'
import { Requests } from '../drafts/Requests'
import { Page } from '../parts/bits'
import { GuestsPage } from './GuestsPage'
import { Waits } from './Wishes'

/** A member's part: what waits for them, their guests, their spaces, their requests. */
export function MinePage({ session }: { session: Session }) {
  return (
    <>
      <Page title="What waits for you" bare>
        <Waits />
        <Requests session={session} />
      </Page>
      <GuestsPage session={session} mine />
      <Page title="Spaces" bare>
        <p>
          <Link to="/spaces">My spaces</Link>: who is in them, and what you may set in those you own. Ask above who may do what, and why not.
        </p>
      </Page>
    </>
  )
}
