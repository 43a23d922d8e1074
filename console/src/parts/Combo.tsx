import { useQuery } from '@tanstack/react-query'
import { useEffect, useId, useRef, useState } from 'react'
import { call, type Given, type Suggestion } from '../api'

/** What suggestions are made of. */
export type Completed = Given<'GET /api/v1/complete'>['query']['kind']

type Props = {
  label: string
  kind: Completed
  value: string
  onChange: (v: string) => void
  action?: string
  placeholder?: string
  invalid?: boolean
  onPick?: (s: Suggestion) => void
  onEnter?: () => void
  onLeave?: () => void
}

/** A text with suggestions from the service, by keyboard and by pointer. */
export function Combo({ label, kind, value, onChange, action, placeholder, invalid, onPick, onEnter, onLeave }: Props) {
  const id = useId()
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState(-1)
  const [sought, setSought] = useState(value)
  const box = useRef<HTMLDivElement>(null)
  useEffect(() => {
    const t = setTimeout(() => setSought(value), 120)
    return () => clearTimeout(t)
  }, [value])
  const { data } = useQuery({
    queryKey: ['complete', kind, sought, action],
    queryFn: () => call('GET /api/v1/complete', { query: { kind, q: sought, action, limit: 12 } }),
    enabled: open,
    placeholderData: (old) => old,
  })
  const items = data?.items ?? []
  const shown = open && items.length > 0 && !(items.length === 1 && items[0].value === value)
  const choose = (v: string) => {
    const s = items.find((i) => i.value === v)
    if (onPick && s) onPick(s)
    else onChange(v)
    setOpen(false)
    setAt(-1)
  }
  return (
    <div
      className="combo"
      ref={box}
      onBlur={(e) => {
        if (box.current?.contains(e.relatedTarget)) return
        setOpen(false)
        // A name stands for the one that has it.
        const named = items.filter((i) => i.label.toLowerCase() === value.trim().toLowerCase())
        if (named.length === 1 && named[0].value !== value) choose(named[0].value)
        else onLeave?.()
      }}
    >
      <label htmlFor={id}>{label}</label>
      <input
        id={id}
        role="combobox"
        className={`form-control${invalid ? ' is-invalid' : ''}`}
        autoComplete="off"
        spellCheck={false}
        aria-expanded={shown}
        aria-controls={`${id}-list`}
        aria-autocomplete="list"
        aria-activedescendant={shown && at >= 0 ? `${id}-${at}` : undefined}
        placeholder={placeholder}
        value={value}
        onFocus={() => setOpen(true)}
        onChange={(e) => {
          onChange(e.target.value)
          setOpen(true)
          setAt(-1)
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
            e.preventDefault()
            setOpen(true)
            setAt((a) =>
              items.length ? (a + (e.key === 'ArrowDown' ? 1 : items.length) + (a < 0 && e.key === 'ArrowUp' ? 0 : 0)) % items.length : -1,
            )
          } else if (e.key === 'Enter' && shown && at >= 0) {
            e.preventDefault()
            choose(items[at].value)
          } else if (e.key === 'Enter' && onEnter) {
            e.preventDefault()
            onEnter()
          } else if (e.key === 'Escape') {
            setOpen(false)
          }
        }}
      />
      <ul id={`${id}-list`} tabIndex={-1} role="listbox" aria-label={label} hidden={!shown} className="combo-list">
        {items.map((s, i) => (
          <li
            key={s.value}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === at}
            onMouseDown={(e) => e.preventDefault()}
            onClick={() => choose(s.value)}
          >
            <span className="value">{s.value}</span>
            <span className="detail">
              {s.label && s.label !== s.value ? s.label : ''}
              {s.detail ? ` · ${s.detail}` : ''}
            </span>
          </li>
        ))}
      </ul>
    </div>
  )
}
