import '@fontsource-variable/bricolage-grotesque/wght.css'
import '@fontsource-variable/commissioner/wght.css'
import './theme.scss'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode, Suspense } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'
import { Failure } from './api'
import { Frame } from './Frame'
import { watchActivity } from './parts/activity'
import { Waiting } from './parts/bits'
import { keepFocus } from './parts/focus'
import { applyMode } from './parts/mode'

applyMode()
watchActivity()
keepFocus()
// After an upgrade of the service the files of the pages have other names: the console is loaded
// anew, once.
addEventListener('vite:preloadError', (e) => {
  const key = 'wexillum.reloaded'
  if (Date.now() - Number(sessionStorage.getItem(key) ?? 0) < 60_000) return
  sessionStorage.setItem(key, String(Date.now()))
  e.preventDefault()
  location.reload()
})
const client = new QueryClient({
  defaultOptions: {
    queries: { staleTime: 10_000, retry: (n, e) => n < 2 && !(e instanceof Failure && e.problem.status >= 400 && e.problem.status < 500) },
  },
})

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Suspense fallback={<Waiting what="Opening" />}>
          <Frame />
        </Suspense>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
