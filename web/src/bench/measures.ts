import { useEffect, useMemo, useState } from 'react'
import { answer, api, type Measure, type Shot } from '../api/client'
import { bench } from './state'

const run = 12 // frames asked for at once: measuring takes a while

/**
 * How a removal's patch is lit and blurred, frame by frame, as far as that is known: asked for in short runs, those
 * nearest to what is looked at first, while nothing else changes and nothing plays. What an earlier revision told stays
 * until the newer is here.
 */
export function useMeasures(shot: Shot, revision: number, removal: string | null, wanted: boolean): Measure[] {
  const [known, setKnown] = useState<{ removal: string | null; frames: Map<number, Measure> }>({
    removal: null,
    frames: new Map(),
  })
  useEffect(() => {
    if (!removal || !wanted) return
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
          const found: Measure[] = await answer(
            api.GET('/api/shots/{id}/measures/{removal}', { params: { path: { id: shot.id, removal }, query } }),
          )
          if (stopped) return
          setKnown((old) => {
            const frames = new Map(old.removal === removal ? old.frames : [])
            for (let n = query.first; n <= query.last; n++) frames.delete(n)
            for (const m of found) frames.set(m.frame, m)
            return { removal, frames }
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
  }, [shot, revision, removal, wanted])
  return useMemo(
    () => (known.removal === removal && wanted ? [...known.frames.values()] : none),
    [known, removal, wanted],
  )
}

const none: Measure[] = []
