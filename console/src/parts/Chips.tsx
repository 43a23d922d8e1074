import { useQueries } from '@tanstack/react-query'
import { useState } from 'react'
import { call } from '../api'
import { Combo, type Completed } from './Combo'

/** Several of something: those that are in it, each with a way out, and a field that adds one. */
export function Chips({
  label,
  kind,
  values,
  names = {},
  onChange,
  hint,
}: {
  label: string
  kind: Completed
  values: string[]
  names?: Record<string, string>
  onChange: (v: string[]) => void
  hint?: string
}) {
  const [text, setText] = useState('')
  const [called, setCalled] = useState<Record<string, string>>(names)
  // Those that came as ids are called by their names.
  const found = useQueries({
    queries: values
      .filter((v) => !called[v] && kind !== 'domain')
      .map((v) => ({
        queryKey: ['complete', kind, v, 'one'],
        queryFn: () => call('GET /api/v1/complete', { query: { kind, q: v, limit: 1 } }),
        staleTime: Infinity,
      })),
  })
  const named = Object.fromEntries(found.flatMap((f) => f.data?.items ?? []).map((s) => [s.value, s.label]))
  const nameOf = (v: string) => called[v] || named[v] || v
  const add = (v: string, name?: string) => {
    const more = v
      .split(/[\s,]+/)
      .map((x) => x.trim())
      .filter((x) => x && !values.includes(x))
    if (name) setCalled({ ...called, [v]: name })
    if (more.length) onChange([...values, ...(name ? [v] : more)])
    setText('')
  }
  return (
    <div className="plain-combo chips-field mb-2">
      <Combo
        label={label}
        kind={kind}
        value={text}
        onChange={setText}
        onPick={(s) => add(s.value, s.label)}
        onEnter={() => text.trim() && add(text)}
        onLeave={() => /[.@:]/.test(text) && add(text)}
        placeholder={hint}
      />
      {values.length > 0 && (
        <ul className="chips" aria-label={`${label}: chosen`}>
          {values.map((v) => (
            <li key={v}>
              {nameOf(v)}
              <button type="button" aria-label={`Take out ${nameOf(v)}`} onClick={() => onChange(values.filter((x) => x !== v))}>
                ✕
              </button>
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}
