import type { Mesh } from './mapping'
import type { View } from './state'
import type { Shot } from '../api/client'
import { computed } from '../api/session'

/** By how much pictures are smaller than the frame. */
export type Reduction = 1 | 2 | 4

export interface Overlay {
  bitmap: ImageBitmap
  x: number
  y: number
  /** How many pixels of the frame one of its pixels is wide. */
  reduction: Reduction
}

/** What the server makes pictures of. */
export type Asked = Exclude<View, 'plate' | 'difference'>

/** What identifies the overlays of a view: the revision asks, the keys decide. */
export interface OverlaySet {
  revision: number
  view: Asked
  removal: string
  first: number
  keys: string[]
  /** Frames may take a while: a first picture, from less, can be had sooner. */
  drafts: boolean
  /** A frame whose picture is ahead of the keys: a change that is being made was tried on it. */
  trial?: { frame: number; key: string }
  /** Where a running track has found a removal, by frame. */
  live?: { removal: string; at: Map<number, Mesh> }
}

/** draft says that the overlay is a first picture; the whole is on its way. */
type Wanted = { plate?: ImageBitmap; overlay?: Overlay | null; ready: boolean; draft: boolean }

/** A picture in memory: an overlay with where it lies. */
type Kept = Overlay

const bytesOf = (k: Kept) => k.bitmap.width * k.bitmap.height * 4

const draftOf = (key: string) => `draft ${key}`

/** How long the whole is waited for alone, in milliseconds. */
const draftAfter = 250

/** How much smaller a picture may be that is shown at so many device pixels to each of its own. */
export const reductionFor = (scale: number): Reduction => (scale <= 0.26 ? 4 : scale <= 0.52 ? 2 : 1)

/** Nothing smaller is looked at before something larger. */
const reductions: Reduction[] = [1, 2, 4]

const nameOf = (key: string, reduction: Reduction) => (reduction === 1 ? key : `${key} /${reduction}`)

/** Exact frames that are kept: they are large, and only looked at one by one. */
const mostExact = 4

/**
 * The frames of one shot in the browser's memory: decoded plate pictures by number, overlays by the hash of
 * what they were made from. Those used longest ago leave when all together reach the budget.
 */
export class FrameStore {
  /** All of them, those used longest ago first. */
  private kept = new Map<string, Kept>()
  private held = 0
  private loading = new Map<string, Promise<void>>()
  /** What did not come: when it may be asked for again, and how often it was. */
  private failed = new Map<string, { until: number; tries: number }>()
  private listeners = new Set<() => void>()
  /** Ends what is loaded for a frame that is not looked at any longer. */
  private superseded = new AbortController()
  version = 0
  /** By how much smaller pictures are asked for: what the zoom shows of them. */
  reduction: Reduction = 1

  constructor(
    readonly shot: Shot,
    readonly budget = 700 << 20,
    /** Pictures are of code values: a table takes them to the screen. */
    readonly code = false,
  ) {}

  subscribe = (f: () => void) => {
    this.listeners.add(f)
    return () => this.listeners.delete(f)
  }
  snapshot = () => this.version

  /** From now on pictures are asked for so much smaller. */
  fit(reduction: Reduction) {
    if (reduction === this.reduction) return
    this.reduction = reduction
    this.changed()
  }

  private changed() {
    this.version++
    this.listeners.forEach((f) => f())
  }

  private url(frame: number, what: string) {
    return `/api/shots/${this.shot.id}/frames/${frame}/${what}${what.includes('?') ? '&' : '?'}v=${computed()}${this.code ? '&as=code' : ''}`
  }

  /** How many bytes of pictures are in memory. */
  get bytes() {
    return this.held
  }

  private put(key: string, { bitmap, place }: Awaited<ReturnType<typeof fetchBitmap>>, reduction: Reduction = 1) {
    this.drop(key)
    const [x, y] = (place ?? '0 0').split(' ').map(Number)
    const kept = { bitmap, x, y, reduction }
    this.kept.set(key, kept)
    this.held += bytesOf(kept)
  }

  private drop(key: string) {
    const kept = this.kept.get(key)
    if (!kept) return
    this.kept.delete(key)
    this.held -= bytesOf(kept)
    kept.bitmap.close()
  }

  /** To the end of the line: it is used. */
  private touch(key: string) {
    const kept = this.kept.get(key)
    if (!kept) return false
    this.kept.delete(key)
    this.kept.set(key, kept)
    return true
  }

  /** Lets the oldest go. Two pictures stay in any case: a frame that is shown, and what lies on it. */
  private trim() {
    const exact = [...this.kept.keys()].filter((k) => k.startsWith('exact '))
    exact.slice(0, Math.max(0, exact.length - mostExact)).forEach((k) => this.drop(k))
    for (const key of [...this.kept.keys()]) {
      if (this.held <= this.budget || this.kept.size <= 2) return
      this.drop(key)
    }
  }

  /** Lets all go, as when another shot is opened. */
  clear() {
    for (const key of [...this.kept.keys()]) this.drop(key)
    this.failed.clear()
  }

  /** Loads something that is not being loaded yet; what did not come is left alone for a while, longer each time. */
  private once(key: string, load: () => Promise<void>) {
    const running = this.loading.get(key)
    if (running) return running
    const before = this.failed.get(key)
    if (before && before.until > performance.now()) return Promise.resolve()
    const next = load()
      .then(() => void this.failed.delete(key))
      .catch((e: unknown) => {
        if (e instanceof DOMException && e.name === 'AbortError') return
        const tries = (before?.tries ?? 0) + 1
        this.failed.set(key, { until: performance.now() + Math.min(500 * 2 ** (tries - 1), 20_000), tries })
      })
      .finally(() => this.loading.delete(key))
    this.loading.set(key, next)
    return next
  }

  static key(set: OverlaySet | null, frame: number) {
    if (set?.trial?.frame === frame) return set.trial.key
    const found = set?.live?.at.get(frame)
    if (set && found) return `${set.view} ${set.revision} ${frame} ${JSON.stringify(found.places)}`
    return set ? (set.keys[frame - set.first] ?? '') : ''
  }

  /**
   * What is in memory for a frame. ready says that nothing is missing for the view: as long as it is not known which
   * overlays there are (a set of null), a plate alone is not the answer.
   */
  get(frame: number, set: OverlaySet | null): Wanted {
    const exact = this.kept.get(`exact ${frame}`)
    const plate = exact ?? this.finest(`plate ${frame}`)
    const key = FrameStore.key(set, frame)
    const overlay = key ? this.finest(key) : null
    const enough = (k: Kept | null | undefined) => !!k && k.reduction <= this.reduction
    const ready = enough(plate) && set !== null && (overlay === null || enough(overlay))
    const draft = ready ? undefined : this.kept.get(draftOf(key))
    // A whole one that is coarser is nearer to what comes than a first picture.
    return { plate: plate?.bitmap, overlay: overlay ?? draft, ready, draft: !!draft && overlay === undefined }
  }

  /** The finest of a picture's sizes that is in memory. */
  private finest(key: string) {
    for (const r of reductions) {
      const kept = this.kept.get(nameOf(key, r))
      if (kept) return kept
    }
    return undefined
  }

  /** Uses a picture that is as fine as wanted; false where there is none. */
  private use(key: string, reduction: Reduction) {
    return reductions.some((r) => r <= reduction && this.touch(nameOf(key, r)))
  }

  /** The plate's picture of a frame, if it is in memory, of whatever size. */
  plate(frame: number) {
    return this.finest(`plate ${frame}`)?.bitmap
  }

  has(frame: number, set: OverlaySet | null) {
    return this.get(frame, set).ready
  }

  /**
   * Loads a frame and what lies on it. Of one that is looked at a first picture comes where the whole takes a while, and
   * what was wanted for another before it is wanted no more.
   */
  async load(frame: number, set: OverlaySet | null, looked = false): Promise<void> {
    if (frame < this.shot.first || frame > this.shot.last) return // of a shot that is just being opened
    const { reduction } = this
    const jobs = [this.plateOf(frame, reduction), this.overlayOf(frame, set, looked, reduction)].filter(
      (j) => j !== null,
    )
    if (jobs.length === 0) return
    const before = this.held
    await Promise.all(jobs)
    this.trim()
    if (this.held !== before || this.has(frame, set)) this.changed()
  }

  /** Loads the plate's picture of a frame; null if it is there. */
  private plateOf(frame: number, reduction: Reduction) {
    if (this.use(`plate ${frame}`, reduction)) return null
    const name = nameOf(`plate ${frame}`, reduction)
    const url = this.url(frame, reduction === 1 ? 'screen' : `screen?reduction=${reduction}`)
    return this.once(name, async () => this.put(name, await fetchBitmap(url), reduction))
  }

  /** Loads what lies on a frame; null if it is there, or nothing does. */
  private overlayOf(frame: number, set: OverlaySet | null, looked: boolean, reduction: Reduction) {
    const key = FrameStore.key(set, frame)
    if (!set || !key || this.use(key, reduction)) return null
    const name = nameOf(key, reduction)
    return this.once(name, async () => {
      const found = set.live?.at.get(frame)
      const what = found ? `${set.live!.removal}&at=${encodeURIComponent(JSON.stringify(found))}` : set.removal
      const size = reduction === 1 ? '' : `&reduction=${reduction}`
      const url = this.url(frame, `overlay?revision=${set.revision}&view=${set.view}&removal=${what}${size}`)
      if (!looked || !set.drafts) return this.put(name, await fetchBitmap(url), reduction)
      this.superseded.abort()
      const { signal } = (this.superseded = new AbortController())
      const first = setTimeout(() => void this.draft(key, name, url, signal, reduction), draftAfter)
      try {
        this.put(name, await fetchBitmap(url, { signal }), reduction)
      } finally {
        clearTimeout(first)
        this.drop(draftOf(key))
      }
    })
  }

  /** Loads the first picture of what is being loaded. */
  private async draft(key: string, name: string, url: string, signal: AbortSignal, reduction: Reduction) {
    const made = await fetchBitmap(`${url}&draft=true`, { signal }).catch(() => null)
    if (!made) return // the whole comes, or says what is wrong
    if (signal.aborted || !this.loading.has(name)) return made.bitmap.close()
    this.put(draftOf(key), made, reduction)
    this.changed()
  }

  /** Loads a frame's overlay as a JSON Patch of a revision would make it, and returns its key. */
  async attempt(
    frame: number,
    { revision, view, removal, drafts }: Pick<OverlaySet, 'revision' | 'view' | 'removal' | 'drafts'>,
    patch: unknown,
  ): Promise<string> {
    const { reduction } = this
    const size = reduction === 1 ? '' : `&reduction=${reduction}`
    const query = `overlay?revision=${revision}&view=${view}&removal=${removal}${drafts ? '&draft=true' : ''}${size}`
    const made = await fetchBitmap(this.url(frame, query), {
      method: 'POST',
      body: JSON.stringify(patch),
      headers: { 'Content-Type': 'application/json-patch+json' },
    })
    const key = (made.etag ?? '').replaceAll('"', '')
    if (key && !this.use(key, reduction)) this.put(nameOf(key, reduction), made, reduction)
    this.trim()
    this.changed()
    return key
  }

  /** Loads in full what lies on a frame, once it is there in less: what is gathered for a frame that was left is not wanted. */
  private async whole(frame: number, set: OverlaySet | null) {
    if (this.reduction === 1) return
    await this.overlayOf(frame, set, false, this.reduction)
    if (!this.finest(FrameStore.key(set, frame))) return
    await this.overlayOf(frame, set, false, 1)
    this.trim()
    this.changed()
  }

  /** Loads the frame without loss, and what lies on it in full, for looking closely while nothing moves. */
  loadExact(frame: number, set: OverlaySet | null) {
    void this.whole(frame, set)
    const key = `exact ${frame}`
    if (frame < this.shot.first || frame > this.shot.last || this.touch(key)) return
    void this.once(key, async () => {
      this.put(key, await fetchBitmap(this.url(frame, 'exact')))
      this.trim()
      this.changed()
    })
  }
}

/** A picture of the server: decoded, with where it lies on its frame and its key. */
export async function fetchBitmap(url: string, how?: RequestInit) {
  const response = await fetch(url, how)
  if (!response.ok) throw new Error(`${url}: ${response.status}`)
  const bitmap = await createImageBitmap(await response.blob(), { colorSpaceConversion: 'none' })
  return { bitmap, place: response.headers.get('Jardin-Place'), etag: response.headers.get('ETag') }
}
