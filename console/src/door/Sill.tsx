import { Mark } from '../parts/bits'
import { type ReactNode, useEffect } from 'react'
import { words, type Language } from './words'

/** The frame of every page that a guest sees: calm, short, on a phone. */
export function Sill({
  title,
  lead,
  language,
  organisation,
  children,
}: {
  title: string
  lead?: ReactNode
  language: Language
  organisation?: string
  children?: ReactNode
}) {
  useEffect(() => {
    document.title = `${title} · ${organisation || 'Wexillum'}`
    document.documentElement.lang = language
  }, [title, language, organisation])
  return (
    <main className="sill" id="main">
      <header>
        <Mark size={30} />
        <span>{organisation}</span>
      </header>
      <article>
        <h1>{title}</h1>
        {lead && <p className="sill-lead">{lead}</p>}
        {children}
      </article>
    </main>
  )
}

export function Languages({ value, choose }: { value: Language; choose: (l: Language) => void }) {
  return (
    <p className="sill-languages" role="group" aria-label={words[value].language}>
      {(['en', 'pt'] as const).map((l) => (
        <button key={l} type="button" lang={l} aria-pressed={l === value} onClick={() => choose(l)}>
          {l === 'en' ? 'English' : 'Português'}
        </button>
      ))}
    </p>
  )
}
