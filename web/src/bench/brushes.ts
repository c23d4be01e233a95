import { create } from 'zustand'
import { notify } from '../ui/notice'
import { modes, setBrush } from './fill'
import { bench, initial, type Brush } from './state'

/** The keys that take up a brush that was kept; with Shift they keep the one in hand. */
export const places = ['6', '7', '8', '9'] as const
export type Place = (typeof places)[number]

const name = 'jardin-brushes'

/** A brush as it was kept by this browser; of an older page only what is still of its kind, over what a new one has. */
export function readBrushes(text: string | null): Partial<Record<Place, Brush>> {
  const out: Partial<Record<Place, Brush>> = {}
  try {
    const all = JSON.parse(text ?? '{}') as Record<string, unknown> | null
    for (const place of places) {
      const was = all?.[place] as Record<string, unknown> | undefined
      if (!was || typeof was !== 'object' || !modes.some((m) => m.value === was.mode)) continue
      const first = initial.brush as unknown as Record<string, unknown>
      const fits = (k: string) => typeof was[k] === typeof first[k] && Array.isArray(was[k]) === Array.isArray(first[k])
      out[place] = Object.fromEntries(
        Object.keys(first).map((k) => [k, fits(k) ? was[k] : first[k]]),
      ) as unknown as Brush
    }
  } catch {
    // what cannot be read is not kept
  }
  return out
}

export const useBrushes = create<{ kept: Partial<Record<Place, Brush>> }>(() => ({
  kept: readBrushes(localStorage.getItem(name)),
}))

export const told = (b: Brush) =>
  `${modes.find((m) => m.value === b.mode)!.label}, ${Math.round(b.size)} px, ${Math.round(b.hardness * 100)} % hard`

/** Keeps the brush in hand at a place. */
export function keepBrush(place: Place) {
  const kept = { ...useBrushes.getState().kept, [place]: bench.get().brush }
  useBrushes.setState({ kept })
  localStorage.setItem(name, JSON.stringify(kept))
  notify(`Kept on ${place}: ${told(bench.get().brush)}`)
}

/** Takes up the brush that was kept at a place; false if there is none. */
export function takeBrush(place: Place): boolean {
  const brush = useBrushes.getState().kept[place]
  if (!brush) {
    notify(`Nothing is kept on ${place} yet; Shift and ${place} keeps the brush in hand there.`)
    return false
  }
  setBrush(brush)
  return true
}
