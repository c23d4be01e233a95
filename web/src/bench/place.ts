import { useEffect } from 'react'
import { stages } from './stages'
import { bench, initial, useBench, views, type BenchState } from './state'

/**
 * Where one was stays. The address holds where one is: frame, removal, stage and view; each removal and stage that was
 * gone to is a step of the browser's history. The rest is kept by shot: how the picture is looked at, what is in hand.
 */

/** What is kept beside the address. */
const kept = [
  'frame',
  'view',
  'removal',
  'stage',
  'tool',
  'locked',
  'beside',
  'lockTo',
  'lockBy',
  'channel',
  'exposure',
  'zoom',
  'centre',
  'handles',
  'sourceId',
  'brush',
  'origin',
  'other',
  'gain',
  'split',
  'faint',
  'loop',
  'folded',
] as const satisfies (keyof BenchState)[]

const nameOf = (shot: string) => `jardin-place-${shot}`

/** What is kept of a shot: of this window, else of whichever looked at it last. */
function keptOf(shot: string): Partial<BenchState> {
  for (const store of [sessionStorage, localStorage]) {
    try {
      const text = store.getItem(nameOf(shot))
      const all = (text ? JSON.parse(text) : null) as Record<string, unknown> | null
      if (all && typeof all === 'object') return checked(all)
    } catch {
      // what cannot be read is not kept
    }
  }
  return {}
}

/** Of what was read only what is of its kind: an older page may have kept something else. */
export function checked(all: Record<string, unknown>): Partial<BenchState> {
  const out: Record<string, unknown> = {}
  for (const name of kept) {
    const was = all[name]
    const first: unknown = initial[name]
    if (was === undefined) continue
    if (first === null) {
      out[name] = was
    } else if (typeof was === typeof first && Array.isArray(was) === Array.isArray(first)) {
      out[name] = typeof first === 'object' && !Array.isArray(first) ? { ...first, ...(was as object) } : was
    }
  }
  return out as Partial<BenchState>
}

interface Bounds {
  id: string
  first: number
  last: number
  width: number
  height: number
}

/** Where the address says one is. */
export function placeOf(search: string): Partial<BenchState> {
  const asked = new URLSearchParams(search)
  const frame = Number(asked.get('frame') ?? NaN)
  const stage = stages.find((s) => s.id === asked.get('stage'))?.id
  const view = views.find((v) => v === asked.get('view'))
  const removal = asked.get('removal')
  return {
    ...(Number.isFinite(frame) ? { frame: Math.round(frame) } : {}),
    ...(asked.has('frame') ? { removal } : {}), // an address that names a place without a removal means none
    ...(stage ? { stage } : {}),
    ...(view ? { view } : {}),
  }
}

/** The address of where one is. */
export function addressOf(s: Pick<BenchState, 'frame' | 'removal' | 'stage' | 'view'>): string {
  const asked = new URLSearchParams({ frame: String(s.frame) })
  if (s.removal) {
    asked.set('removal', s.removal)
    asked.set('stage', s.stage)
  }
  if (s.view !== initial.view) asked.set('view', s.view)
  return `?${asked}`
}

/** The state to begin with in a shot, of whose removals there are these. */
export function begins(shot: Bounds, removals: string[], search: string, before: Partial<BenchState>): BenchState {
  const s: BenchState = {
    ...initial,
    frame: shot.first,
    ...before,
    ...placeOf(search),
  }
  s.frame = Math.min(shot.last, Math.max(shot.first, s.frame))
  if (s.removal && !removals.includes(s.removal)) s.removal = null
  if (!s.removal) Object.assign(s, { stage: initial.stage, view: s.view === 'plate' ? 'plate' : initial.view })
  // A brush stays in hand; what was being drawn is over.
  if (!s.removal || s.stage !== 'fill') s.tool = 'look'
  else if (s.tool !== 'look' && s.tool !== 'area') s.tool = 'brush'
  return s
}

/** Takes up where one was in a shot, and keeps it from then on. */
export function usePlace(shot: Bounds, removals: string[]) {
  useEffect(() => {
    bench.set(begins(shot, removals, location.search, keptOf(shot.id)))
    const here = location.pathname
    const keep = () => {
      const s = bench.get()
      const text = JSON.stringify(Object.fromEntries(kept.map((name) => [name, s[name]])))
      for (const store of [sessionStorage, localStorage]) {
        try {
          store.setItem(nameOf(shot.id), text)
        } catch {
          // no room: the address says the most of it
        }
      }
    }
    const write = (s: BenchState, step: boolean) => {
      const address = here + addressOf(s)
      if (location.pathname !== here || location.pathname + location.search === address) return
      history[step ? 'pushState' : 'replaceState'](null, '', address)
    }
    let timer = 0
    let at = bench.get()
    write(at, false)
    const stop = useBench.subscribe((s) => {
      // Another removal or stage is a step; frames and views are not, or back would play the shot backwards.
      if (s.removal !== at.removal || (s.removal && s.stage !== at.stage)) write(s, true)
      at = s
      if (s.playing) return
      clearTimeout(timer)
      timer = window.setTimeout(() => {
        write(bench.get(), false)
        keep()
      }, 300)
    })
    const back = () => {
      if (location.pathname !== here) return
      const to = placeOf(location.search)
      const s = bench.get()
      at = { ...s, ...to }
      if (to.removal !== undefined && (to.removal !== s.removal || to.stage !== s.stage))
        bench.open(to.removal, to.stage ?? 'mark')
      bench.set({ ...to, playing: false })
      at = bench.get()
    }
    addEventListener('popstate', back)
    addEventListener('pagehide', keep)
    return () => {
      clearTimeout(timer)
      keep()
      stop()
      removeEventListener('popstate', back)
      removeEventListener('pagehide', keep)
    }
    // Once for each shot: what is edited later changes nothing of where one is.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [shot.id])
}
