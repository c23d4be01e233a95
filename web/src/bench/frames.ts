import type { QueryClient } from '@tanstack/react-query'
import type { Shot } from '../api/client'
import { computed } from '../api/session'

export interface Overlay {
  bitmap: ImageBitmap
  x: number
  y: number
}

/** What the server makes pictures of. */
export type Asked = 'result' | 'patch' | 'alone' | 'matte' | 'tint' | 'light' | 'grain'

/** What identifies the overlays of a view: the revision asks, the keys decide. */
export interface OverlaySet {
  revision: number
  view: Asked
  removal: string
  first: number
  keys: string[]
  /** A frame whose picture is ahead of the keys: a change that is being made was tried on it. */
  trial?: { frame: number; key: string }
  /** Where a running track has found a removal, by frame. */
  live?: { removal: string; at: Map<number, number[]> }
}

type Wanted = { plate?: ImageBitmap; overlay?: Overlay | null; ready: boolean }

/**
 * The frames of one shot in the browser's memory: decoded plate pictures by number, overlays by the hash of
 * what they were made from. Those used longest ago leave when the budget is reached.
 */
export class FrameStore {
  private plates = new Map<number, ImageBitmap>()
  private exact = new Map<number, ImageBitmap>()
  private overlays = new Map<string, Overlay>()
  private loading = new Map<string, Promise<void>>()
  private listeners = new Set<() => void>()
  version = 0

  constructor(
    readonly shot: Shot,
    readonly budget = 700 << 20,
  ) {}

  subscribe = (f: () => void) => {
    this.listeners.add(f)
    return () => this.listeners.delete(f)
  }
  snapshot = () => this.version

  private changed() {
    this.version++
    this.listeners.forEach((f) => f())
  }

  private url(frame: number, what: string) {
    return `/api/shots/${this.shot.id}/frames/${frame}/${what}${what.includes('?') ? '&' : '?'}v=${computed()}`
  }

  private bytes() {
    let sum = 0
    for (const b of this.plates.values()) sum += b.width * b.height * 4
    for (const o of this.overlays.values()) sum += o.bitmap.width * o.bitmap.height * 4
    return sum
  }

  private trim() {
    while (this.bytes() > this.budget && this.plates.size > 2) {
      const [oldest, bitmap] = this.plates.entries().next().value!
      bitmap.close()
      this.plates.delete(oldest)
    }
    while (this.overlays.size > 600) {
      const [oldest, o] = this.overlays.entries().next().value!
      o.bitmap.close()
      this.overlays.delete(oldest)
    }
    while (this.exact.size > 4) {
      const [oldest, bitmap] = this.exact.entries().next().value!
      bitmap.close()
      this.exact.delete(oldest)
    }
  }

  private once(key: string, load: () => Promise<void>) {
    let running = this.loading.get(key)
    if (!running) {
      running = load()
        .catch(() => undefined) // a frame that did not come is asked for again when it is next shown
        .finally(() => this.loading.delete(key))
      this.loading.set(key, running)
    }
    return running
  }

  static key(set: OverlaySet | null, frame: number) {
    if (set?.trial?.frame === frame) return set.trial.key
    const found = set?.live?.at.get(frame)
    if (set && found) return `${set.view} ${set.revision} ${frame} ${found.join()}`
    return set ? (set.keys[frame - set.first] ?? '') : ''
  }

  /**
   * What is in memory for a frame. ready says that nothing is missing for the view: as long as it is not known which
   * overlays there are (a set of null), a plate alone is not the answer.
   */
  get(frame: number, set: OverlaySet | null): Wanted {
    const plate = this.exact.get(frame) ?? this.plates.get(frame)
    const key = FrameStore.key(set, frame)
    const overlay = key ? this.overlays.get(key) : null
    return { plate, overlay, ready: !!plate && set !== null && overlay !== undefined }
  }

  /** The plate's picture of a frame, if it is in memory. */
  plate(frame: number) {
    return this.plates.get(frame)
  }

  has(frame: number, set: OverlaySet | null) {
    return this.get(frame, set).ready
  }

  /** Loads a frame and what lies on it. */
  async load(frame: number, set: OverlaySet | null): Promise<void> {
    if (frame < this.shot.first || frame > this.shot.last) return // of a shot that is just being opened
    const jobs: Promise<void>[] = []
    const plate = this.plates.get(frame)
    if (plate) {
      this.plates.delete(frame) // to the end of the line
      this.plates.set(frame, plate)
    } else {
      jobs.push(
        this.once(`plate ${frame}`, async () => {
          this.plates.set(frame, (await fetchBitmap(this.url(frame, 'screen'))).bitmap)
        }),
      )
    }
    const key = FrameStore.key(set, frame)
    if (set && key && !this.overlays.has(key)) {
      jobs.push(
        this.once(key, async () => {
          const found = set.live?.at.get(frame)
          const query = `overlay?revision=${set.revision}&view=${set.view}&removal=${found ? `${set.live!.removal}&at=${found.join()}` : set.removal}`
          this.keep(key, await fetchBitmap(this.url(frame, query)))
        }),
      )
    }
    if (jobs.length === 0) return
    await Promise.all(jobs)
    this.trim()
    this.changed()
  }

  private keep(key: string, { bitmap, place }: Awaited<ReturnType<typeof fetchBitmap>>) {
    const [x, y] = (place ?? '0 0').split(' ').map(Number)
    this.overlays.set(key, { bitmap, x, y })
  }

  /** Loads a frame's overlay as a JSON Patch of a revision would make it, and returns its key. */
  async attempt(frame: number, revision: number, view: Asked, removal: string, patch: unknown): Promise<string> {
    const made = await fetchBitmap(this.url(frame, `overlay?revision=${revision}&view=${view}&removal=${removal}`), {
      method: 'POST',
      body: JSON.stringify(patch),
      headers: { 'Content-Type': 'application/json-patch+json' },
    })
    const key = (made.etag ?? '').replaceAll('"', '')
    if (key && !this.overlays.has(key)) this.keep(key, made)
    this.trim()
    this.changed()
    return key
  }

  /** Loads the frame without loss, for looking closely while nothing moves. */
  loadExact(frame: number) {
    if (this.exact.has(frame) || frame < this.shot.first || frame > this.shot.last) return
    void this.once(`exact ${frame}`, async () => {
      this.exact.set(frame, (await fetchBitmap(this.url(frame, 'exact'))).bitmap)
      this.trim()
      this.changed()
    })
  }
}

async function fetchBitmap(url: string, how?: RequestInit) {
  const response = await fetch(url, how)
  if (!response.ok) throw new Error(`${url}: ${response.status}`)
  const bitmap = await createImageBitmap(await response.blob(), { colorSpaceConversion: 'none' })
  return { bitmap, place: response.headers.get('Jardin-Place'), etag: response.headers.get('ETag') }
}

const stores = new WeakMap<QueryClient, Map<string, FrameStore>>()

/** One store for each shot, as long as the page lives. */
export function frameStore(queries: QueryClient, shot: Shot): FrameStore {
  let byShot = stores.get(queries)
  if (!byShot) stores.set(queries, (byShot = new Map()))
  let store = byShot.get(shot.id)
  if (!store) byShot.set(shot.id, (store = new FrameStore(shot)))
  return store
}
