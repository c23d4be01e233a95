import { useEffect, useRef, useSyncExternalStore } from 'react'
import type { BenchProps } from './props'
import { bench, useBench } from './state'

/** Frames loaded ahead of the one shown while playing. */
const ahead = 24

/**
 * Plays the shot in a loop at its rate. A frame that is not in memory yet is waited for, not left out: what is
 * shown is always every frame. Frames near the one shown are fetched before they are needed.
 */
export function usePlayback({ shot, frames, overlays }: BenchProps) {
  const playing = useBench((s) => s.playing)
  const frame = useBench((s) => s.frame)
  useEffect(() => {
    if (!playing) return
    const length = 1000 / (shot.rateNum / shot.rateDen)
    let due = performance.now() + length
    let request = 0
    // Frames that came later than half a frame's time after they were due; what came is counted second by second.
    let late = 0
    let waiting = false
    let shown = 0
    let since = performance.now()
    bench.set({ pace: null })
    const tick = (now: number) => {
      request = requestAnimationFrame(tick)
      if (now < due) return
      const at = bench.get().frame
      const { loop } = bench.get()
      const [first, last] = loop
        ? [Math.max(shot.first, loop.first), Math.min(shot.last, loop.last)]
        : [shot.first, shot.last]
      const next = at >= last || at < first ? first : at + 1
      if (!frames.has(next, overlays)) {
        void frames.load(next, overlays)
        if (!waiting) late++
        waiting = true
        due = now
        return
      }
      if (!waiting && now - due > length / 2) late++
      waiting = false
      shown++
      if (now - since > 1000) {
        bench.set({ pace: { rate: (1000 * shown) / (now - since), late } })
        shown = 0
        since = now
      }
      // Keep the beat; after a stall begin a new one.
      due = now - due > length ? now + length : due + length
      bench.set({ frame: next })
    }
    request = requestAnimationFrame(tick)
    return () => cancelAnimationFrame(request)
  }, [playing, shot, frames, overlays])

  const reduction = useSyncExternalStore(frames.subscribe, () => frames.reduction)
  const looked = useRef(-1)
  useEffect(() => {
    const { loop } = bench.get()
    const first = playing && loop ? Math.max(shot.first, loop.first) : shot.first
    const count = (playing && loop ? Math.min(shot.last, loop.last) : shot.last) - first + 1
    const wanted: number[] = []
    for (let k = 1; k <= (playing ? ahead : 4) && k < count; k++)
      wanted.push(first + ((Math.max(0, frame - first) + k) % count))
    if (!playing && frame > shot.first) wanted.push(frame - 1)
    let stopped = false
    // Something is being changed on this frame: what comes next may change it again, and goes first.
    const changing = !playing && looked.current === frame
    looked.current = frame
    void (async () => {
      await frames.load(frame, overlays, !playing) // the one that is looked at has the line to itself
      if (changing) await new Promise((done) => setTimeout(done, 400))
      const atOnce = playing ? 3 : 1 // playing, decoding has to keep up
      for (let k = 0; k < wanted.length && !stopped; k += atOnce)
        await Promise.all(wanted.slice(k, k + atOnce).map((n) => frames.load(n, overlays)))
    })()
    return () => {
      stopped = true
    }
  }, [frame, playing, shot, frames, overlays, reduction])

  useEffect(() => {
    if (playing) return
    const timer = setTimeout(() => frames.loadExact(frame, overlays), 250)
    return () => clearTimeout(timer)
  }, [frame, playing, frames, overlays])
}
