import { notifyManager, QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode, useEffect, useState } from 'react'
import { createRoot } from 'react-dom/client'
import { Route, Switch, useRoute } from 'wouter'
import { listen, useLive } from './api/live'
import { Gate } from './api/session'
import { useUnsent } from './api/unsent'
import { BenchRoom } from './bench/bench'
import './index.css'
import { Notices } from './ui/notice'
import { Wall } from './wall/wall'

// What is changed is on screen before the next key or click is heard: a drag that begins on an older state would bring it back.
notifyManager.setScheduler(queueMicrotask)

const queries = new QueryClient({
  defaultOptions: { queries: { staleTime: Infinity, retry: 1, refetchOnWindowFocus: false } },
})

function App() {
  const connected = useLive((s) => s.connected)
  const [, at] = useRoute<{ id: string }>('/shots/:id')
  const shot = at ? at.id : undefined
  useEffect(() => listen(queries, shot), [shot])
  return (
    <>
      <Switch>
        <Route path="/shots/:id">{({ id }) => <BenchRoom key={id} id={id} />}</Route>
        <Route>
          <Wall />
        </Route>
      </Switch>
      <Notices />
      <Standing connected={connected} />
    </>
  )
}

/** Says when the server is away, and what is only here so far. */
function Standing({ connected }: { connected: boolean }) {
  const { all, away } = useUnsent()
  const unsent = all.filter((u) => !u.stuck && (u.kind === 'edit' || u.ended)).length
  const late = useLate(unsent > 0)
  if (connected && !away && !late) return null
  const words =
    unsent === 0
      ? ''
      : unsent === 1
        ? ' One change is unsent: kept in this browser, sent as soon as possible.'
        : ` ${unsent} changes are unsent: kept in this browser, sent as soon as possible.`
  return (
    <p
      role="status"
      className="pointer-events-none fixed bottom-1 left-1/2 z-50 w-max max-w-full -translate-x-1/2 rounded border border-clay bg-bed px-3 py-1"
    >
      {connected && !away ? 'Saving takes long.' : 'The server does not answer. Trying again.'}
      {words}
    </p>
  )
}

/** True once something has been so for some seconds: a stroke that is saved in a moment is not worth a word. */
function useLate(on: boolean) {
  const [late, setLate] = useState(false)
  useEffect(() => {
    if (!on) return setLate(false)
    const timer = setTimeout(() => setLate(true), 4000)
    return () => clearTimeout(timer)
  }, [on])
  return on && late
}

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Gate>
        <App />
      </Gate>
    </QueryClientProvider>
  </StrictMode>,
)
