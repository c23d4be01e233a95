import { QueryClient } from '@tanstack/react-query'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { listen } from './live'

class Events extends EventTarget {
  static last: Events
  static CLOSED = 2
  readyState = 1
  constructor() {
    super()
    Events.last = this
  }
  close() {
    this.readyState = 2
  }
  tell(name: string, data: unknown) {
    this.dispatchEvent(new MessageEvent(name, { data: JSON.stringify(data) }))
  }
}

afterEach(() => vi.unstubAllGlobals())

describe('live events', () => {
  it('asks anew for work that may have ended before somebody listened', () => {
    vi.stubGlobal('EventSource', Events)
    const queries = new QueryClient()
    queries.setQueryData(['tasks'], [{ id: 'a', kind: 'track', state: 'running', createdAt: '1' }])
    const end = listen(queries, undefined)
    expect(queries.getQueryState(['tasks'])!.isInvalidated).toBe(false)
    Events.last.tell('hello', { ready: true })
    expect(queries.getQueryState(['tasks'])!.isInvalidated).toBe(true)
    Events.last.tell('task', { task: { id: 'a', kind: 'track', state: 'done', createdAt: '1' } })
    expect(queries.getQueryData<{ state: string }[]>(['tasks'])![0].state).toBe('done')
    end()
    expect(Events.last.readyState).toBe(2)
  })
})
