import { useEffect, useMemo, useState } from 'react'
import { answer, api, type Measure, type Shot } from '../api/client'
import { bench } from './state'

const run = 12 // frames asked for at once: measuring takes a while

type Frame = { frame: number }
type Ask<T> = (query: { revision: number; first: number; last: number }) => Promise<T[]>

/**
 * What the server works out frame by frame, as far as that is known: asked for in short runs, those nearest to what is
 * looked at first, while nothing else changes and nothing plays. What an earlier revision told stays until the newer is
 * here. of names what it is about; null for nothing. ask must stay the same as long as of does.
 */
function useRuns<T extends Frame>(shot: Shot, revision: number, of: string | null, ask: Ask<T>): T[] {
  const [known, setKnown] = useState<{ of: string | null; frames: Map<number, T> }>({ of: null, frames: new Map() })
  useEffect(() => {
    if (!of) return
    let stopped = false
    const timer = setTimeout(async () => {
      const runs = []
      for (let first = shot.first; first <= shot.last; first += run) runs.push(first)
      const here = bench.get().frame - run / 2
      runs.sort((a, b) => Math.abs(a - here) - Math.abs(b - here))
      for (const first of runs) {
        while (bench.get().playing && !stopped) await new Promise((done) => setTimeout(done, 250))
        if (stopped) return
        const query = { revision, first, last: Math.min(shot.last, first + run - 1) }
        try {
          const found = await ask(query)
          if (stopped) return
          setKnown((old) => {
            const frames = new Map(old.of === of ? old.frames : [])
            for (let n = query.first; n <= query.last; n++) frames.delete(n)
            for (const m of found) frames.set(m.frame, m)
            return { of, frames }
          })
        } catch {
          return // the lane stays as it is; the next revision asks again
        }
      }
    }, 600)
    return () => {
      stopped = true
      clearTimeout(timer)
    }
  }, [shot, revision, of]) // eslint-disable-line react-hooks/exhaustive-deps -- ask goes with of
  return useMemo(() => (known.of === of ? [...known.frames.values()] : []), [known, of])
}

/** How a removal's patch is lit and blurred. */
export function useMeasures(shot: Shot, revision: number, removal: string | null): Measure[] {
  return useRuns<Measure>(shot, revision, removal, (query) =>
    answer(
      api.GET('/api/shots/{id}/measures/{removal}', { params: { path: { id: shot.id, removal: removal! }, query } }),
    ),
  )
}

/** How much of what is marked a source through time finds on some frame. */
export function useShares(shot: Shot, revision: number, removal: string | null, source: string | null) {
  return useRuns<{ frame: number; share: number }>(
    shot,
    revision,
    removal && source && `${removal}/${source}`,
    (query) =>
      answer(
        api.GET('/api/shots/{id}/seen/{removal}/{source}/frames', {
          params: { path: { id: shot.id, removal: removal!, source: source! }, query },
        }),
      ),
  )
}
