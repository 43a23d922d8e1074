import { useMutation, useQueryClient } from '@tanstack/react-query'

/** Reads everything but the session anew, since a change may show on any page; what is named in `but` is fresh already. */
export function useRefresh(): (...but: string[]) => Promise<void> {
  const client = useQueryClient()
  return (...but) => client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' && !but.includes(String(q.queryKey[0])) })
}

/** A change: sent, then shown on every page. */
export function useChange<Answer = unknown, Given = void>(
  send: (given: Given) => Promise<Answer>,
  done?: (answer: Answer, given: Given) => void,
) {
  const refresh = useRefresh()
  return useMutation<Answer, Error, Given>({
    mutationFn: send,
    onSuccess: (answer, given) => {
      done?.(answer, given)
      void refresh()
    },
  })
}
