import type { QueryClient } from '@tanstack/react-query'
import { create } from 'zustand'
import { bench } from '../bench/state'
import type { Schemas, Task } from './client'
import { actingQuery } from './me'
import { catchUp, catchUpAll } from './treatment'

export type Found = Schemas['Tracked']

/** What the server tells as it happens and no query keeps: running work and what running tracks find. */
export const useLive = create<{
  connected: boolean
  found: Record<string, Record<number, Found>>
  latest: Record<string, number>
  /** Where outlines that follow an edge were found, by shape and frame, until a revision holds it. */
  edges: Record<string, Record<number, Schemas['EdgeFound']['points']>>
  /** How far the gathering of a frame is, the last that was heard of. */
  gathered: { frame: number; share: number } | null
}>(() => ({
  connected: true,
  found: {},
  latest: {},
  edges: {},
  gathered: null,
}))

/** Connects to the live events of a shot, or of none, and keeps the queries fresh. Returns what ends it. */
export function listen(queries: QueryClient, shot: string | undefined): () => void {
  const ended = new AbortController()
  const connect = (before: boolean) => {
    const source = new EventSource(`/api/events?${actingQuery()}${shot ? `&shot=${shot}` : ''}`)
    follow(source, queries, shot, before)
    source.addEventListener('error', () => {
      // The browser itself connects again after a break, not after an answer that refuses: one from a proxy, say.
      if (source.readyState === EventSource.CLOSED && !ended.signal.aborted)
        setTimeout(() => ended.signal.aborted || connect(true), 3000)
    })
    ended.signal.addEventListener('abort', () => source.close())
  }
  connect(false)
  return () => ended.abort()
}

function follow(source: EventSource, queries: QueryClient, shot: string | undefined, before: boolean) {
  const on = <T>(name: string, f: (event: T) => void) =>
    source.addEventListener(name, (e) => f(JSON.parse((e as MessageEvent<string>).data) as T))
  on('hello', () => {
    useLive.setState({ connected: true })
    // After a break anything may have changed.
    if (before) {
      void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'treatment' })
      catchUpAll(queries)
    } else {
      // What was asked before may have changed until somebody listened, or while another shot was looked at.
      void queries.invalidateQueries({ queryKey: ['tasks'] })
      if (shot) catchUpAll(queries, shot)
    }
    before = true
  })
  source.onerror = () => useLive.setState({ connected: false })
  on<Schemas['TaskChanged']>('task', ({ task }) => {
    queries.setQueriesData<Task[]>({ queryKey: ['tasks'] }, (old) => {
      if (!old) return old
      const rest = old.filter((t) => t.id !== task.id)
      return [task, ...rest].sort((a, b) => b.createdAt.localeCompare(a.createdAt))
    })
    if (task.kind === 'scout' && task.state === 'done')
      void queries.invalidateQueries({ queryKey: ['scores', task.shotId] })
    if (task.kind === 'edge' && (task.state === 'waiting' || task.endedAt)) useLive.setState({ edges: {} })
    // A new track replaces what the one before it told.
    if (task.kind === 'track' && task.state === 'waiting') useLive.setState({ found: {}, latest: {} })
  })
  on<Schemas['EdgeFollowed']>('edge', ({ found }) => {
    useLive.setState((s) => ({
      edges: { ...s.edges, [found.shape]: { ...s.edges[found.shape], [found.frame]: found.points } },
    }))
    if (bench.get().outline === found.shape) bench.set({ frame: found.frame, playing: false })
  })
  on<Schemas['FrameGathered']>('gathered', ({ frame, done, total }) =>
    useLive.setState({ gathered: { frame, share: done / Math.max(total, 1) } }),
  )
  on<Schemas['FrameFollowed']>('followed', ({ taskId, found }) =>
    useLive.setState((s) => ({
      found: { ...s.found, [taskId]: { ...s.found[taskId], [found.frame]: found } },
      latest: { ...s.latest, [taskId]: found.frame },
    })),
  )
  on<Schemas['RevisionChanged']>('revision', (e) => {
    catchUp(queries, e.shotId, e.number)
  })
  on<Schemas['ShotChanged']>('shot', () => {
    void queries.invalidateQueries({ queryKey: ['shots'] })
    void queries.invalidateQueries({ queryKey: ['deleted'] })
  })
}
