import { useMutation } from '@tanstack/react-query'
import { useNavigate } from 'react-router'
import { call, type Operations } from '../api'
import { useRefresh } from '../parts/change'
import { workIn } from './quick'

/** What makes a draft of something that was proposed. */
type Proposing = 'POST /api/v1/remedies/draft' | 'POST /api/v1/spare/draft' | 'POST /api/v1/could/cuts/draft'

/** Makes a draft of what is proposed, and goes there. */
export function useTake<T, K extends Proposing>(key: K, body: (chosen: T) => Operations[K]['body']) {
  const navigate = useNavigate()
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (chosen: T) => call<Proposing>(key, { body: body(chosen) }),
    onSuccess: (d) => {
      void refresh()
      workIn(null)
      navigate(`/drafts/${d.id}`)
    },
  })
}
