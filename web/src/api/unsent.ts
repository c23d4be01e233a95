import { createStore, del, entries, set } from 'idb-keyval'
import { create } from 'zustand'
import type { FillSource, Stroke } from './client'

/**
 * What was done here and is not safe on the server yet: edits, and strokes. It is kept in the browser, over a reload
 * and a crash too, until the server has confirmed it.
 */
export type Unsent = {
  id: string
  shot: string
  /** Counts up: what was done first is sent first. */
  order: number
  /** It cannot be made on what the treatment is now. */
  stuck?: string
} & (
  | { kind: 'edit'; label: string; base: number; before: unknown[]; patch: unknown[] }
  | { kind: 'stroke'; removal: string; source: FillSource; stroke: Stroke; points: number[][]; ended: boolean }
)

const store = createStore('jardin', 'unsent')

export const useUnsent = create<{ all: Unsent[]; away: boolean }>(() => ({ all: [], away: false }))

const list = () => useUnsent.getState().all
const put = (all: Unsent[]) => useUnsent.setState({ all: all.sort((a, b) => a.order - b.order) })

/** Reads what an earlier page left. */
export const recovered: Promise<void> = entries<string, Unsent>(store)
  .then((kept) => {
    const known = new Set(list().map((u) => u.id))
    put([...kept.map(([, u]) => u).filter((u) => !known.has(u.id)), ...list()])
  })
  .catch(() => undefined) // a browser that keeps nothing still sends

let last = Date.now() * 1000

type Fresh = Unsent extends infer U ? (U extends Unsent ? Omit<U, 'order'> : never) : never

/** Keeps something until it is confirmed. */
export function keep(one: Fresh): Unsent {
  const kept = { ...one, order: ++last } as Unsent
  put([...list(), kept])
  void set(kept.id, kept, store).catch(() => undefined)
  return kept
}

/** Keeps what was changed of it. */
export function again(one: Unsent) {
  put([...list().filter((u) => u.id !== one.id), one])
  void set(one.id, one, store).catch(() => undefined)
}

/** It is safe, or given up. */
export function done(id: string) {
  put(list().filter((u) => u.id !== id))
  void del(id, store).catch(() => undefined)
}

export const unsentOf = (shot: string) => list().filter((u) => u.shot === shot)

/** Says whether the server answers, for what is shown of it. */
export const setAway = (away: boolean) => {
  if (useUnsent.getState().away !== away) useUnsent.setState({ away })
}
