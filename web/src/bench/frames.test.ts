import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Shot } from '../api/client'
import { FrameStore, type OverlaySet } from './frames'

const shot = { id: 's', first: 1, last: 100, width: 100, height: 100 } as Shot

class Bitmap {
  constructor(
    public width: number,
    public height: number,
  ) {
    open.add(this)
  }
  close() {
    this.width = this.height = 0
    open.delete(this)
  }
}
const open = new Set<Bitmap>()

/** What the server was asked for, and how it answers. */
let asked: string[] = []
let answer = (_url: string): { status?: number; size?: number } => ({})

beforeEach(() => {
  asked = []
  open.clear()
  answer = () => ({})
  vi.stubGlobal('fetch', async (url: string) => {
    asked.push(url)
    const { status = 200, size = 100 } = answer(url)
    return {
      ok: status < 400,
      status,
      blob: async () => size,
      headers: new Headers({ 'Jardin-Place': '3 4', ETag: '"tried"' }),
    }
  })
  vi.stubGlobal('createImageBitmap', async (size: number) => new Bitmap(size, size))
  vi.useFakeTimers({ toFake: ['performance'] })
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

const set = (keys: Record<number, string>): OverlaySet => ({
  revision: 1,
  view: 'result',
  removal: '',
  first: 1,
  drafts: false,
  keys: Array.from({ length: 100 }, (_, i) => keys[i + 1] ?? ''),
})
const mb = 100 * 100 * 4

describe('frame store', () => {
  it('is ready when plate and overlay are there, and asks for each once', async () => {
    const store = new FrameStore(shot)
    const s = set({ 5: 'k' })
    expect(store.has(5, s)).toBe(false)
    await Promise.all([store.load(5, s), store.load(5, s)])
    expect(asked).toHaveLength(2)
    expect(store.has(5, s)).toBe(true)
    expect(store.get(5, s).overlay).toMatchObject({ x: 3, y: 4 })
    expect(store.has(5, null)).toBe(false) // as long as it is not known what lies on it
    expect(store.has(6, s)).toBe(false)
    await store.load(5, s)
    expect(asked).toHaveLength(2)
    await store.load(101, s) // of another shot
    expect(asked).toHaveLength(2)
  })
  it('counts plates, overlays and exact frames in one budget, and lets the oldest go', async () => {
    const store = new FrameStore(shot, 10 * mb)
    const s = set(Object.fromEntries(Array.from({ length: 100 }, (_, i) => [i + 1, `k${i}`])))
    for (let n = 1; n <= 40; n++) {
      await store.load(n, s)
      expect(store.bytes).toBeLessThanOrEqual(10 * mb)
      expect(store.has(n, s)).toBe(true)
    }
    expect(store.has(30, s)).toBe(false)
    expect(open.size * mb).toBe(store.bytes) // what was let go was closed
    // What was used last stays.
    await store.load(37, s)
    for (let n = 41; n <= 43; n++) await store.load(n, s)
    expect(store.has(37, s)).toBe(true)
    expect(store.has(38, s)).toBe(false)
    store.clear()
    expect(store.bytes).toBe(0)
    expect(open.size).toBe(0)
  })
  it('keeps a frame that is larger than the budget as long as it is shown', async () => {
    const store = new FrameStore(shot, mb)
    const s = set({ 5: 'k' })
    await store.load(5, s)
    expect(store.has(5, s)).toBe(true)
  })
  it('asks for pictures as fine as the zoom shows them, and uses finer ones that are there', async () => {
    const store = new FrameStore(shot)
    const s = set({ 5: 'k', 6: 'l' })
    store.fit(2)
    await store.load(5, s)
    expect(asked.every((u) => u.includes('reduction=2'))).toBe(true)
    expect(store.get(5, s)).toMatchObject({ ready: true, overlay: { reduction: 2, x: 3 } })
    store.fit(4) // something finer is there
    await store.load(5, s)
    expect(asked).toHaveLength(2)
    expect(store.has(5, s)).toBe(true)
    store.fit(1)
    expect(store.has(5, s)).toBe(false)
    expect(store.get(5, s).plate).toBeDefined() // shown until the finer one is there
    await store.load(5, s)
    expect(asked.slice(2).some((u) => u.includes('reduction'))).toBe(false)
    expect(store.get(5, s)).toMatchObject({ ready: true, overlay: { reduction: 1 } })
    store.fit(4)
    await store.load(6, s)
    store.loadExact(6, s) // what stands still is looked at as it is
    await vi.waitFor(() => expect(store.get(6, s).overlay?.reduction).toBe(1), 10_000)
    expect(
      asked
        .slice(6)
        .map((u) => u.replace(/.*frames\/6\/(\w+).*/, '$1'))
        .sort(),
    ).toEqual(['exact', 'overlay'])
  })
  it('keeps few exact frames', async () => {
    const store = new FrameStore(shot)
    for (let n = 1; n <= 9; n++) {
      store.loadExact(n, null)
      await vi.waitFor(() => expect(asked).toHaveLength(n), 10_000)
      await vi.waitFor(() => expect(store.get(n, null).plate).toBeDefined(), 10_000)
    }
    expect(store.bytes).toBe(4 * mb)
  })
  it('does not ask at every tick for a frame that cannot be read, and asks again later', async () => {
    const store = new FrameStore(shot)
    answer = () => ({ status: 500 })
    for (let tick = 0; tick < 60; tick++) await store.load(5, null)
    expect(asked).toHaveLength(1)
    for (let k = 0; k < 60; k++) {
      vi.advanceTimersByTime(1000)
      await store.load(5, null)
    }
    expect(asked.length).toBeGreaterThan(3)
    expect(asked.length).toBeLessThan(12) // less and less often
    answer = () => ({})
    vi.advanceTimersByTime(30_000)
    await store.load(5, null)
    expect(store.plate(5)).toBeDefined()
  })
  it('shows a change that is tried by its own key', async () => {
    const store = new FrameStore(shot)
    const s = set({ 5: 'k' })
    await store.load(5, s)
    const key = await store.attempt(5, s, [])
    expect(key).toBe('tried')
    expect(store.has(5, { ...s, trial: { frame: 5, key } })).toBe(true)
    expect(store.get(5, { ...s, trial: { frame: 5, key } }).overlay).not.toBe(store.get(5, s).overlay)
  })
  it('shows a first picture of what takes a while, and then the whole', async () => {
    const store = new FrameStore(shot)
    const s = { ...set({ 5: 'k', 6: 'l' }), drafts: true }
    const whole: (() => void)[] = []
    const plain = globalThis.fetch
    vi.stubGlobal('fetch', async (url: string, how?: RequestInit) => {
      if (url.includes('overlay') && !url.includes('draft'))
        await new Promise<void>((done, fail) => {
          whole.push(done)
          how?.signal?.addEventListener('abort', () => fail(new DOMException('', 'AbortError')))
        })
      return plain(url, how)
    })
    const both = store.load(5, s, true)
    await vi.waitFor(() => expect(store.get(5, s).draft).toBe(true), { timeout: 2000 })
    expect(store.get(5, s).ready).toBe(false)
    expect(store.get(5, s).overlay).toBeDefined()
    whole[0]()
    await both
    expect(store.get(5, s)).toMatchObject({ ready: true, draft: false })
    // What was wanted for a frame that is left is wanted no more, and can be asked for again at once.
    const left = store.load(6, s, true)
    await vi.waitFor(() => expect(whole).toHaveLength(2))
    const next = store.load(7, { ...s, keys: s.keys.map((k, i) => (i === 6 ? 'm' : k)) }, true)
    await left
    expect(store.has(6, s)).toBe(false)
    const again = store.load(6, s, true)
    await vi.waitFor(() => expect(whole).toHaveLength(4))
    whole.forEach((done) => done())
    await Promise.all([next, again])
    expect(store.has(6, s)).toBe(true)
  })
})
