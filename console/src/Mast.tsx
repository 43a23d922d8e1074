import { useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { Button } from 'react-bootstrap'
import { NavLink, useLocation, useNavigate } from 'react-router'
import { call, type FoundThing, type Session } from './api'
import { AskBar } from './ask/AskBar'
import { findPages, helpFor, sectionOf, sectionsFor, under } from './nav'
import { Mark } from './parts/bits'
import { applyMode, mode, type Mode } from './parts/mode'

const next: Record<Mode, Mode> = { auto: 'light', light: 'dark', dark: 'auto' }

/** Above every page: the places in the order of the work, one box that finds, and the question that is always there. */
export function Mast({ session, waits, leave }: { session: Session; waits: number; leave: () => void }) {
  const { pathname } = useLocation()
  const [theme, setTheme] = useState<Mode>(mode())
  const [folded, setFolded] = useState(true)
  const here = sectionOf(pathname, session.role)
  const pages = here?.pages ?? []
  const navigate = useNavigate()
  useEffect(() => {
    const asked = (e: KeyboardEvent) => {
      if (
        e.key !== '?' ||
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        (e.target as Element).closest('input, textarea, select, [contenteditable], [role=dialog]')
      )
        return
      e.preventDefault()
      navigate(helpFor(pathname))
    }
    addEventListener('keydown', asked)
    return () => removeEventListener('keydown', asked)
  }, [pathname, navigate])
  return (
    <header className="mast">
      <div className="mast-row">
        <NavLink to="/" className="brand" aria-label="Wexillum, first page">
          <Mark />
          <span>Wexillum</span>
        </NavLink>
        <nav aria-label="Places">
          {sectionsFor(session.role).map((s) => (
            <NavLink
              key={s.name}
              to={s.pages[0].to}
              className={() => (s === here || s.name === here?.name ? 'active' : '')}
              aria-current={s.name === here?.name ? 'true' : undefined}
            >
              {s.name}
              {s.name === 'Rules' && waits > 0 && (
                <span className="waits-count" aria-label={`${waits} ${waits === 1 ? 'waits' : 'wait'} for you to confirm`}>
                  {waits}
                </span>
              )}
            </NavLink>
          ))}
          {session.role === 'member' && session.person && <NavLink to={`/people/${session.person}`}>Yourself</NavLink>}
        </nav>
        <div className="mast-end">
          <Finder role={session.role} />
          <NavLink to={helpFor(pathname)} className="mast-help" aria-label="Help on this page" title="Help on this page (?)">
            ?
          </NavLink>
          <Button
            size="sm"
            variant="mast"
            onClick={() => {
              applyMode(next[theme])
              setTheme(next[theme])
            }}
            aria-label={`Light or dark: ${theme}. Change to ${next[theme]}`}
          >
            {theme === 'auto' ? '◐' : theme === 'light' ? '○' : '●'}
          </Button>
          <NavLink to="/account" className="mast-account" title={`Signed in as ${session.name}, ${session.role}`}>
            {session.name}
          </NavLink>
          <Button size="sm" variant="mast" onClick={leave}>
            Sign out
          </Button>
        </div>
      </div>
      <div className={`ask-fold${folded ? ' is-folded' : ''}`}>
        <Button size="sm" variant="mast" className="ask-unfold" aria-expanded={!folded} onClick={() => setFolded(!folded)}>
          {folded ? 'Ask who may do what' : 'Hide the question'}
        </Button>
        <AskBar />
      </div>
      {pages.length > 1 && (
        <nav className="second-row" aria-label={`Pages of ${here?.name}`}>
          {pages.map((p) => (
            <NavLink key={p.to} to={p.to} end={p.end} className={() => (under(p, pathname) ? 'active' : '')}>
              {p.name}
              {p.to === '/drafts' && waits > 0 && ` (${waits})`}
            </NavLink>
          ))}
        </nav>
      )}
    </header>
  )
}

const paths: Record<FoundThing['kind'], (id: string) => string> = {
  rule: (id) => `/rules?find=${encodeURIComponent(id)}`,
  guest: (id) => `/guests/${encodeURIComponent(id)}`,
  partner: (id) => `/partners/${id}`,
  person: (id) => `/people/${id}`,
  space: (id) => `/spaces/${id}`,
  meeting: (id) => `/meetings/${id}`,
  item: (id) => `/audience?resource=${encodeURIComponent(id)}`,
}

/** One box that finds pages, rules, guests, partners, people, spaces and meetings by everyday words. */
function Finder({ role }: { role: string }) {
  const navigate = useNavigate()
  const [text, setText] = useState('')
  const [sought, setSought] = useState('')
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState(-1)
  const box = useRef<HTMLDivElement>(null)
  useEffect(() => {
    const t = setTimeout(() => setSought(text.trim()), 150)
    return () => clearTimeout(t)
  }, [text])
  const found = useQuery({
    queryKey: ['find', sought],
    queryFn: () => call('GET /api/v1/find', { query: { q: sought } }),
    enabled: open && sought !== '',
    placeholderData: (old) => old,
  })
  const pages = findPages(text, role).map((p) => ({ to: p.to, name: p.name, kind: 'page', detail: '' }))
  const things =
    sought === ''
      ? []
      : (found.data?.found ?? []).map((f) => ({ to: paths[f.kind](f.id), name: f.name, kind: f.kind as string, detail: f.detail ?? '' }))
  const items = [...pages, ...things]
  const shown = open && text.trim() !== '' && (items.length > 0 || found.isSuccess)
  const go = (to: string) => {
    setOpen(false)
    setText('')
    setAt(-1)
    navigate(to)
  }
  return (
    <div className="finder" ref={box} onBlur={(e) => !box.current?.contains(e.relatedTarget) && setOpen(false)}>
      <input
        type="search"
        role="combobox"
        className="form-control"
        aria-label="Find rules, people, guests, partners, spaces and pages"
        aria-expanded={shown}
        aria-controls="finder-list"
        aria-activedescendant={shown && at >= 0 ? `finder-${at}` : undefined}
        placeholder="Find"
        autoComplete="off"
        value={text}
        onFocus={() => setOpen(true)}
        onChange={(e) => {
          setText(e.target.value)
          setOpen(true)
          setAt(-1)
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
            e.preventDefault()
            setAt((a) =>
              items.length ? (a + (e.key === 'ArrowDown' ? 1 : items.length - (a < 0 ? 0 : 1)) + items.length) % items.length : -1,
            )
          } else if (e.key === 'Enter' && items.length > 0) {
            e.preventDefault()
            go(items[Math.max(at, 0)].to)
          } else if (e.key === 'Escape') setOpen(false)
        }}
      />
      <ul id="finder-list" role="listbox" aria-label="Found" className="combo-list" hidden={!shown} tabIndex={-1}>
        {items.map((i, k) => (
          <li
            key={i.kind + i.to}
            id={`finder-${k}`}
            role="option"
            aria-selected={k === at}
            onMouseDown={(e) => e.preventDefault()}
            onClick={() => go(i.to)}
          >
            <span className="value">
              {i.name} <span className="tag">{i.kind}</span>
            </span>
            {i.detail && <span className="detail">{i.detail}</span>}
          </li>
        ))}
        {items.length === 0 && (
          <li role="option" aria-selected={false} aria-disabled="true">
            Nothing is called so. Try one word, as forward, guest or link.
          </li>
        )}
      </ul>
    </div>
  )
}
