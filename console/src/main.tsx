import '@fontsource-variable/bricolage-grotesque/wght.css'
import '@fontsource-variable/commissioner/wght.css'
import './theme.scss'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'
import { Failure } from './api'
import { Frame } from './Frame'
import { watchActivity } from './parts/activity'
import { keepFocus } from './parts/focus'
import { applyMode } from './parts/mode'

applyMode()
watchActivity()
keepFocus()
const client = new QueryClient({
  defaultOptions: { queries: { staleTime: 10_000, retry: (n, e) => n < 2 && !(e instanceof Failure && e.problem.status >= 400 && e.problem.status < 500) } },
})

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Frame />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
