import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { send, useSending } from './upload'

/** A server that takes files in pieces. */
let received: Record<string, number>
let named: string[]
let breaks: number
let offset = 0

beforeEach(() => {
  received = {}
  named = []
  breaks = 0
  offset = 0
  vi.stubGlobal('fetch', async (input: Request | string, init?: RequestInit) => {
    const url = typeof input === 'string' ? input : input.url
    const method = typeof input === 'string' ? init?.method : input.method
    if (method === 'POST') {
      const body = await (input as Request).json()
      named = body.files.map((f: { name: string }) => f.name)
      const files = body.files.map((f: { name: string }) => ({ name: f.name, received: received[f.name] ?? 0 }))
      return Response.json({ id: 'up', path: '/kept/there', files })
    }
    const query = new URL(url, 'http://x').searchParams
    const name = query.get('name')!
    if (breaks-- > 0) throw new TypeError('connection lost')
    const at = Number(query.get('offset'))
    if (at !== (received[name] ?? 0)) return Response.json({ received: received[name] ?? 0 }, { status: 409 })
    received[name] = at + (init!.body as Blob).size + offset
    return Response.json({ received: received[name] })
  })
})
afterEach(() => vi.unstubAllGlobals())

const file = (name: string, size: number) => new File([new Uint8Array(size)], name)

describe('sending footage', () => {
  it('sends what is footage, in order, and nothing else', async () => {
    const path = await send('shot', [
      file('b.0002.png', 5),
      file('notes.txt', 5),
      file('b.0001.png', 7),
      file('.b.0003.png', 1),
    ])
    expect(path).toBe('/kept/there')
    expect(named).toEqual(['b.0001.png', 'b.0002.png'])
    expect(received).toEqual({ 'b.0001.png': 7, 'b.0002.png': 5 })
    expect(useSending.getState().sending).toEqual([])
  })
  it('sends large files in pieces', async () => {
    await send('', [file('a.mov', (8 << 20) + 3)])
    expect(received['a.mov']).toBe((8 << 20) + 3)
  })
  it('goes on where it was, also after a break', async () => {
    received['a.0001.png'] = 4
    breaks = 2
    await send('', [file('a.0001.png', 10), file('a.0002.png', 2)])
    expect(received).toEqual({ 'a.0001.png': 10, 'a.0002.png': 2 })
  }, 15_000)
  it('says what is missing', async () => {
    await expect(send('Folder', [file('a.txt', 3)])).rejects.toThrow('Folder holds no movie')
  })
})
