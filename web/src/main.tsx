import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode, useEffect } from 'react'
import { createRoot } from 'react-dom/client'
import { Route, Switch } from 'wouter'
import { listen, useLive } from './api/live'
import { BenchRoom } from './bench/bench'
import './index.css'
import { Notices } from './ui/notice'
import { Wall } from './wall/wall'

const queries = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity, retry: 1, refetchOnWindowFocus: false } } })

function App() {
  const connected = useLive((s) => s.connected)
  useEffect(() => listen(queries), [])
  return (
    <>
      <Switch>
        <Route path="/shots/:id">{({ id }) => <BenchRoom key={id} id={id} />}</Route>
        <Route><Wall /></Route>
      </Switch>
      <Notices />
      {!connected && (
        <p role="status" className="fixed bottom-3 left-1/2 z-50 -translate-x-1/2 rounded border border-clay bg-bed px-3 py-1">
          The server does not answer. Trying again.
        </p>
      )}
    </>
  )
}

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <App />
    </QueryClientProvider>
  </StrictMode>,
)
