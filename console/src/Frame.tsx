import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Suspense, useEffect, useRef, useState } from 'react'
import { Route, Routes, useLocation, useNavigate } from 'react-router'
import { call, proof, Failure, remember, signedOut as ended, type Session } from './api'
import { Mast } from './Mast'
import { DraftBar } from './drafts/DraftBar'
import { WayBack } from './places/WayBack'
import { QuickDialog } from './drafts/QuickDialog'
import { Empty, Page, setZone, Waiting, Wrong } from './parts/bits'
import {
  AnswerPage,
  CheckPage,
  Door,
  OwnPage,
  DuePage,
  DraftPage,
  DraftsPage,
  RevisionPage,
  ExceptionsPage,
  ExpectationsPage,
  ExpectationPage,
  BundlesPage,
  BundlePage,
  FeedsPage,
  FeedPage,
  FeedOutPage,
  ConnectPage,
  ReviewsPage,
  ReviewPage,
  EvidencePage,
  RecordPage,
  CouldPage,
  SparePage,
  FindingsPage,
  GuestPage,
  GuestsPage,
  InvitePage,
  ListsPage,
  MinePage,
  HelpPage,
  Home,
  JournalPage,
  PartnerPage,
  PartnersPage,
  LinksPage,
  PeoplePage,
  PersonPage,
  MeetingsPage,
  MeetingPage,
  StartPage,
  SettingsPage,
  MatrixPage,
  Begin,
  GroupsPage,
  SpacePage,
  SpacesPage,
  AudiencePage,
  DifferencePage,
  NumbersPage,
  ReachPage,
  RulesPage,
  SystemsPage,
  SystemPage,
  RecordsPage,
  AccountPage,
} from './pages'
import { workIn } from './drafts/quick'
import { ProveAgain, SignIn, SignInAgain } from './session/SignIn'
import { useRefresh } from './parts/change'

/** Everything around a page: who is signed in, the question bar, what changes. */
export function Frame() {
  const client = useQueryClient()
  const refresh = useRefresh()
  const session = useQuery({
    queryKey: ['session'],
    queryFn: async () => {
      const s = await call('GET /api/v1/session')
      remember(s)
      setZone(s.zone)
      return s
    },
    staleTime: Infinity,
    retry: false,
  })
  const { pathname } = useLocation()
  const navigate = useNavigate()
  useEffect(() => {
    const look = () => void client.invalidateQueries({ queryKey: ['session'] })
    addEventListener(ended, look)
    return () => removeEventListener(ended, look)
  }, [client])
  // A look at the session that was begun before is not to say afterwards that it has ended.
  const back = async (s: Session) => {
    await client.cancelQueries({ queryKey: ['session'] })
    setZone(s.zone)
    client.setQueryData(['session'], s)
  }
  const signedOut = session.error instanceof Failure && session.error.problem.status === 401
  const inbound = pathname.startsWith('/door') // guests come in whoever sits here
  if (session.isLoading) return <Waiting what="Opening" />
  if ((signedOut && (inbound || pathname === '/own')) || (inbound && session.data?.role !== 'guest'))
    return <Door done={(s) => void back(s).then(() => navigate('/own', { replace: true }))} />
  if (signedOut && !session.data && pathname === '/begin')
    return <Begin done={(s) => void back(s).then(() => navigate('/start', { replace: true }))} />
  if (signedOut && !session.data) return <SignIn done={(s) => void back(s)} />
  if (!session.data) return <Wrong error={session.error} retry={() => void session.refetch()} />
  if (session.data.role === 'guest')
    return (
      <OwnPage
        out={() => {
          void call('DELETE /api/v1/session')
            .catch(() => undefined)
            .then(() => {
              client.clear()
              navigate('/door', { replace: true })
              return client.resetQueries({ queryKey: ['session'] })
            })
        }}
      />
    )
  if (session.data.set_up_factor)
    return (
      <main className="page-alone">
        <Suspense fallback={<Waiting what="Opening the page" />}>
          <AccountPage
            session={session.data}
            out={() => {
              void call('DELETE /api/v1/session')
                .catch(() => undefined)
                .then(() => client.resetQueries({ queryKey: ['session'] }))
            }}
          />
        </Suspense>
      </main>
    )
  if (pathname === '/proved')
    return <main className="page-alone">You have proved that it is you. Close this window, and go on in the other.</main>
  return (
    <>
      <Inside session={session.data} />
      <Proof was={session.data} done={(s) => void back(s)} />
      {signedOut && <SignInAgain was={session.data} done={(s) => void back(s).then(() => refresh())} />}
    </>
  )
}

/** Shows the question for a new proof when something asks for it. */
function Proof({ was, done }: { was: Session; done: (s: Session) => void }) {
  const [asking, setAsking] = useState<{ yes: () => void; no: (e: Error) => void }>()
  useEffect(() => {
    let open: Promise<void> | undefined // two that ask at once ask once
    proof.ask = () =>
      (open ??= new Promise<void>((yes, no) => setAsking({ yes, no })).finally(() => {
        open = undefined
        setAsking(undefined)
      }))
    return () => {
      proof.ask = undefined
    }
  }, [])
  if (!asking) return null
  return (
    <ProveAgain
      was={was}
      leave={() => asking.no(new Error('Nothing was done: it asks for a proof that it is you.'))}
      done={(s) => {
        done(s)
        asking.yes()
      }}
    />
  )
}

function Inside({ session }: { session: Session }) {
  const client = useQueryClient()
  const refresh = useRefresh()
  const navigate = useNavigate()
  const [away, setAway] = useState(false)
  const [again, setAgain] = useState(0)
  useEffect(() => {
    const events = new EventSource('/api/v1/changes')
    let retry: ReturnType<typeof setTimeout>
    let last = ''
    events.addEventListener('change', (e) => {
      setAway(false)
      const head = (e as MessageEvent<string>).data
      if (last && head !== last) void refresh()
      last = head
    })
    events.onerror = () => {
      setAway(true)
      void client.invalidateQueries({ queryKey: ['session'] })
      // A browser does not try again by itself after an answer that is no stream.
      if (events.readyState === EventSource.CLOSED) retry = setTimeout(() => setAgain((n) => n + 1), 3000)
    }
    return () => {
      clearTimeout(retry)
      events.close()
    }
  }, [client, session.csrf, again])
  const leave = async () => {
    await call('DELETE /api/v1/session').catch(() => undefined)
    workIn(null) // the next who signs in here is in no draft of somebody else's
    client.clear()
    navigate('/')
    await client.resetQueries({ queryKey: ['session'] })
  }
  const { pathname } = useLocation()
  const from = useRef(pathname)
  useEffect(() => {
    if (from.current === pathname) return
    from.current = pathname
    document.getElementById('main')?.focus({ preventScroll: true }) // the work goes on on the new page
  }, [pathname])
  const waiting = useQuery({ queryKey: ['drafts'], queryFn: () => call('GET /api/v1/drafts'), enabled: session.role === 'administrator' })
  const mine = (waiting.data?.drafts ?? []).filter((d) => d.state === 'waiting' && d.asked_by !== session.name).length
  const reader = session.role !== 'member'
  return (
    <>
      <a className="skip" href="#main">
        Skip to the page
      </a>
      <Mast session={session} waits={mine} leave={() => void leave()} />
      {away && (
        <p className="away" role="status">
          The service is away; what is shown may be old. It is tried again.
        </p>
      )}
      <DraftBar />
      <WayBack />
      <p id="announcer" className="visually-hidden" role="status" />
      <QuickDialog role={session.role} />
      <main id="main" tabIndex={-1}>
        <Suspense fallback={<Waiting what="Opening the page" />}>
          <Routes>
            <Route path="/" element={reader ? <Home session={session} /> : <MinePage session={session} />} />
            <Route path="/ask" element={<AnswerPage />} />
            <Route path="/reach" element={<ReachPage />} />
            <Route path="/numbers" element={<NumbersPage />} />
            <Route path="/audience" element={<AudiencePage />} />
            <Route path="/difference" element={<DifferencePage />} />
            <Route path="/partners" element={<PartnersPage role={session.role} />} />
            <Route path="/partners/:id" element={<PartnerPage role={session.role} />} />
            <Route path="/rules" element={<RulesPage role={session.role} />} />
            <Route path="/check" element={<CheckPage />} />
            <Route path="/spaces" element={<SpacesPage session={session} />} />
            <Route path="/spaces/:id" element={<SpacePage session={session} />} />
            <Route path="/links" element={<LinksPage session={session} />} />
            <Route path="/people" element={<PeoplePage session={session} />} />
            <Route path="/matrix" element={<MatrixPage session={session} />} />
            <Route path="/people/:id" element={<PersonPage session={session} />} />
            <Route path="/start" element={<StartPage session={session} />} />
            <Route path="/settings" element={<SettingsPage session={session} />} />
            <Route path="/meetings" element={<MeetingsPage session={session} />} />
            <Route path="/meetings/:id" element={<MeetingPage session={session} />} />
            <Route path="/groups" element={<GroupsPage session={session} />} />
            <Route path="/exceptions" element={<ExceptionsPage role={session.role} />} />
            <Route path="/systems" element={<SystemsPage role={session.role} />} />
            <Route path="/systems/:id" element={<SystemPage role={session.role} />} />
            <Route path="/systems/:id/:kind" element={<RecordsPage role={session.role} />} />
            <Route path="/could" element={<CouldPage role={session.role} />} />
            <Route path="/spare" element={<SparePage role={session.role} />} />
            <Route path="/bundles" element={<BundlesPage role={session.role} />} />
            <Route path="/bundles/:id" element={<BundlePage role={session.role} />} />
            <Route path="/feeds" element={<FeedsPage role={session.role} />} />
            <Route path="/partners/:id/connect" element={<ConnectPage role={session.role} />} />
            <Route path="/feeds/out/:partner" element={<FeedOutPage role={session.role} />} />
            <Route path="/feeds/:partner" element={<FeedPage role={session.role} />} />
            <Route path="/reviews" element={<ReviewsPage role={session.role} />} />
            <Route path="/reviews/:id" element={<ReviewPage role={session.role} />} />
            <Route path="/expectations" element={<ExpectationsPage role={session.role} />} />
            <Route path="/expectations/:id" element={<ExpectationPage role={session.role} />} />
            <Route path="/evidence" element={<EvidencePage role={session.role} />} />
            <Route path="/evidence/:id" element={<RecordPage name={session.name} />} />
            <Route path="/findings" element={<FindingsPage role={session.role} />} />
            <Route path="/guests" element={<GuestsPage session={session} />} />
            <Route path="/guests/:address" element={<GuestPage session={session} />} />
            <Route path="/invite" element={<InvitePage session={session} />} />
            <Route path="/lists" element={<ListsPage session={session} />} />
            <Route path="/mine" element={<MinePage session={session} />} />
            <Route path="/due" element={<DuePage />} />
            <Route path="/drafts" element={<DraftsPage role={session.role} />} />
            <Route path="/drafts/:id" element={<DraftPage session={session} />} />
            <Route path="/revisions/:number" element={<RevisionPage />} />
            <Route path="/journal" element={<JournalPage role={session.role} />} />
            <Route path="/account" element={<AccountPage session={session} out={() => void leave()} />} />
            <Route path="/help/*" element={<HelpPage />} />
            <Route
              path="*"
              element={
                <Page title="Nothing here">
                  <Empty>There is no such page. You can ask a question above at any time.</Empty>
                </Page>
              }
            />
          </Routes>
        </Suspense>
      </main>
    </>
  )
}
