import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, type MouseEvent } from 'react'
import { Link, useLocation, useNavigate, useSearchParams } from 'react-router'
import { call } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'

/** The documentation: one page of it, or where it says what is looked for. */
export function HelpPage() {
  const { pathname, hash } = useLocation()
  const [params, setParams] = useSearchParams()
  const sought = params.get('q') ?? ''
  const [text, setText] = useState(sought)
  useEffect(() => setText(sought), [sought, pathname])
  const name = pathname.replace(/^\/help\/?/, '') || 'README'
  const page = useQuery({
    queryKey: ['help', name],
    queryFn: () => call('GET /api/v1/help/page', { query: { name } }),
    staleTime: Infinity,
  })
  const found = useQuery({
    queryKey: ['help', 'find', sought],
    queryFn: () => call('GET /api/v1/help', { query: { q: sought } }),
    enabled: sought !== '',
    staleTime: Infinity,
    placeholderData: (old) => old,
  })
  const navigate = useNavigate()
  useEffect(() => {
    if (page.data && sought === '')
      document.getElementById(decodeURIComponent(hash.slice(1)) || 'page-title')?.scrollIntoView({ block: hash ? 'start' : 'nearest' })
  }, [page.data, hash, sought])
  // Links of a page stay within the console.
  const follow = (e: MouseEvent) => {
    const a = (e.target as Element).closest('a')
    const to = a?.getAttribute('href')
    if (!to || e.metaKey || e.ctrlKey || !/^(\/help|#)/.test(to)) return
    e.preventDefault()
    navigate(to.startsWith('#') ? `${pathname}${to}` : to)
  }
  return (
    <Page title={sought ? `Where the help says “${sought}”` : (page.data?.title ?? 'Help')}>
      <div className="help">
        <aside>
          <form
            role="search"
            onSubmit={(e) => {
              e.preventDefault()
              setParams(text.trim() ? { q: text.trim() } : {})
            }}
          >
            <input
              type="search"
              className="form-control"
              aria-label="Search the help"
              placeholder="Search the help"
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
          </form>
          <nav aria-label="Help">
            <Link to="/help">Where to begin</Link>
            <Link to="/help/glossary">Glossary</Link>
            <Link to="/help/catalogue/README">Every rule and action</Link>
          </nav>
          {sought === '' && page.data && page.data.sections.length > 2 && (
            <nav aria-label="On this page" className="help-sections">
              {page.data.sections.slice(1).map((s) => (
                <Link key={s.anchor} to={`${pathname}#${s.anchor}`}>
                  {s.title}
                </Link>
              ))}
            </nav>
          )}
        </aside>
        {sought !== '' ? (
          <div className="help-found">
            {found.isError && <Wrong error={found.error} />}
            {found.isLoading && <Waiting what="Looking" />}
            {found.data?.found.length === 0 && <Empty>Nothing in the help says all of that. Try fewer words, or one of them.</Empty>}
            <ol>
              {found.data?.found.map((f) => (
                <li key={f.page + f.anchor}>
                  <Link to={`/help/${f.page}${f.anchor ? `#${f.anchor}` : ''}`}>{f.title || f.page_title}</Link>
                  {f.title !== f.page_title && <span className="where"> in {f.page_title}</span>}
                  <p>{f.said}</p>
                </li>
              ))}
            </ol>
          </div>
        ) : page.isError ? (
          <div>
            <Wrong error={page.error} />
            <p>
              Search on the left, or begin with <Link to="/help">where to begin</Link>.
            </p>
          </div>
        ) : page.data ? (
          // Made by the service from its own pages, without raw HTML.
          <div className="help-page" onClick={follow} dangerouslySetInnerHTML={{ __html: page.data.html }} />
        ) : (
          <Waiting what="Opening the help" />
        )}
      </div>
    </Page>
  )
}
