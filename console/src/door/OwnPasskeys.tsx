import { useMutation, useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { call, Failure } from '../api'
import { addPasskey, canPasskey, whyNot } from '../session/passkey'
import { dayIn, words, type Language } from './words'

/** A guest's own passkeys, with which they come in without waiting for a code. */
export function OwnPasskeys({ language }: { language: Language }) {
  const t = words[language]
  const list = useQuery({ queryKey: ['own-passkeys'], queryFn: () => call('GET /api/v1/account/passkeys') })
  const add = useMutation({
    mutationFn: () => addPasskey(dayIn(new Date().toISOString().slice(0, 10), language)),
    onSuccess: () => void list.refetch(),
  })
  const end = useMutation({
    mutationFn: (id: string) => call('DELETE /api/v1/account/passkeys/{id}', { path: { id } }),
    onSuccess: () => void list.refetch(),
  })
  const all = list.data?.passkeys ?? []
  if (!canPasskey() && all.length === 0) return null
  const wrong = add.error ?? end.error
  return (
    <section aria-labelledby="own-passkeys">
      <h2 id="own-passkeys">{t.passkeysTitle}</h2>
      <p>{t.passkeysLead}</p>
      {wrong && (
        <p className="sill-wrong" role="alert">
          {wrong instanceof Failure && wrong.problem.type.endsWith('/fresh-sign-in') ? t.passkeyStale : whyNot(wrong)}
        </p>
      )}
      {all.map((p) => (
        <p key={p.id}>
          {p.name}
          {p.until && `, ${t.passkeyUntil(dayIn(p.until, language))}`}{' '}
          <Button size="sm" variant="link" disabled={end.isPending} onClick={() => end.mutate(p.id)}>
            {t.passkeyAway}
          </Button>
        </p>
      ))}
      {canPasskey() && (
        <Button variant="outline-secondary" disabled={add.isPending} onClick={() => add.mutate()}>
          {t.passkeyAdd}
        </Button>
      )}
    </section>
  )
}
