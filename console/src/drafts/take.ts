import { useMutation } from '@tanstack/react-query'
import { useNavigate } from 'react-router'
import { call, type Draft } from '../api'
import { useRefresh } from '../parts/change'
import { workIn } from './quick'

/** Makes a draft of what is proposed, and goes there. */
export function useTake<T>(path: string, body: (chosen: T) => object) {
  const navigate = useNavigate()
  const refresh = useRefresh()
  return useMutation({
    mutationFn: (chosen: T) => call<Draft>('POST', path, body(chosen)),
    onSuccess: (d) => {
      void refresh()
      workIn(null)
      navigate(`/drafts/${d.id}`)
    },
  })
}
