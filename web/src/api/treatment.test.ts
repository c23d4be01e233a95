import { QueryClient } from '@tanstack/react-query'
import jsonpatch, { type Operation } from 'fast-json-patch'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Document } from './client'
import { attempt, catchUpAll, dropAttempts, edit, open, type Present } from './treatment'
import { useUnsent } from './unsent'

/** A server that keeps one treatment, as far as edits go. */
class Server {
  number = 0
  document: Document = { format: 'jardin/treatment', version: 5, tracks: [], removals: [] } as unknown as Document
  down = false
  /** The next answers are lost on their way, though what was asked is done. */
  loseAnswers = 0
  patches: { id: string; revision: number; label: string }[] = []
  private made = new Map<string, number>()
  private gate: Promise<void> = Promise.resolve()

  hold() {
    let go!: () => void
    this.gate = new Promise((done) => (go = done))
    return go
  }

  someoneElse(patch: Operation[]) {
    this.document = jsonpatch.applyPatch(structuredClone(this.document), patch).newDocument
    this.number++
  }

  fetch = async (request: Request): Promise<Response> => {
    if (this.down) throw new TypeError('no connection')
    const body = request.method === 'PATCH' ? await request.json() : null
    await this.gate
    if (!body) return Response.json(this.revision(true))
    this.patches.push(body)
    if (this.made.has(body.id)) return Response.json(this.revision(true))
    if (body.revision !== this.number)
      return Response.json({ status: 409, detail: 'stale', revision: this.revision(true) }, { status: 409 })
    try {
      this.document = jsonpatch.applyPatch(structuredClone(this.document), body.patch, true).newDocument
    } catch {
      return Response.json({ status: 422, detail: 'That cannot be.' }, { status: 422 })
    }
    this.made.set(body.id, ++this.number)
    if (this.loseAnswers-- > 0) throw new TypeError('connection lost')
    return Response.json(this.revision(false))
  }

  private revision(whole: boolean) {
    return {
      number: this.number,
      label: 'x',
      author: '',
      ...(whole ? { document: structuredClone(this.document) } : {}),
    }
  }
}

let server: Server
let queries: QueryClient
let shot = 0
const id = () => `shot${shot}`
const shown = () => queries.getQueryData<Present>(['treatment', id()])!
const names = (d: Document) => d.removals.map((r) => r.name)
const add = (name: string) => (d: Document) => void d.removals.push({ id: name, name } as Document['removals'][0])

beforeEach(async () => {
  shot++ // what was saved is remembered by shot
  server = new Server()
  queries = new QueryClient()
  vi.stubGlobal('fetch', (r: Request) => server.fetch(r))
  queries.setQueryData(['treatment', id()], await open(queries, id()))
})
afterEach(() => vi.unstubAllGlobals())

describe('the edit queue', () => {
  it('shows a change at once, and saves it', async () => {
    const go = server.hold()
    const done = edit(queries, id(), 'Add', add('a'))
    expect(names(shown().document)).toEqual(['a'])
    expect(server.number).toBe(0)
    expect(useUnsent.getState().all).toHaveLength(1)
    go()
    await done
    expect(names(server.document)).toEqual(['a'])
    expect(shown().number).toBe(1)
    expect(shown().pending).toBeUndefined()
    expect(useUnsent.getState().all).toHaveLength(0)
  })
  it('sends changes one after the other, in the order in which they were made', async () => {
    await Promise.all(['a', 'b', 'c', 'd'].map((n) => edit(queries, id(), n, add(n))))
    expect(server.patches.map((p) => p.label)).toEqual(['a', 'b', 'c', 'd'])
    expect(server.patches.map((p) => p.revision)).toEqual([0, 1, 2, 3])
    expect(names(shown().document)).toEqual(['a', 'b', 'c', 'd'])
    expect(shown().document).toEqual(server.document)
  })
  it('keeps those that wait in sight while earlier answers come in', async () => {
    const go = server.hold()
    const first = edit(queries, id(), 'a', add('a'))
    const second = edit(queries, id(), 'b', add('b'))
    const seen: string[][] = []
    const stop = queries.getQueryCache().subscribe(() => seen.push(names(shown().document)))
    go()
    await Promise.all([first, second])
    stop()
    expect(seen.every((s) => s.join() === 'a,b')).toBe(true)
  })
  it('makes a change again on top of what somebody else did', async () => {
    server.someoneElse([{ op: 'add', path: '/removals/-', value: { id: 'x', name: 'x' } }])
    await edit(queries, id(), 'a', add('a'))
    expect(names(server.document)).toEqual(['x', 'a'])
    expect(shown().document).toEqual(server.document)
  })
  it('waits as long as the server is away, and makes nothing twice', async () => {
    server.down = true
    const done = edit(queries, id(), 'a', add('a'))
    await vi.waitFor(() => expect(useUnsent.getState().away).toBe(true), 10_000)
    expect(names(shown().document)).toEqual(['a'])
    server.down = false
    server.loseAnswers = 1 // it is made, but nobody hears of it
    await done
    expect(server.patches).toHaveLength(2)
    expect(server.patches[0].id).toBe(server.patches[1].id)
    expect(names(server.document)).toEqual(['a'])
    expect(shown().document).toEqual(server.document)
    expect(useUnsent.getState().away).toBe(false)
  }, 15_000)
  it('takes back what the server refuses', async () => {
    await edit(queries, id(), 'a', add('a'))
    await edit(queries, id(), 'odd', (d) => void ((d as unknown as Record<string, unknown>).format = undefined))
    server.fetch = async (r) =>
      r.method === 'PATCH' ? Response.json({ status: 422, detail: 'no' }, { status: 422 }) : new Server().fetch(r)
    await edit(queries, id(), 'b', add('b'))
    expect(names(shown().document)).not.toContain('b')
    expect(useUnsent.getState().all).toHaveLength(0)
  })
  it('shows what is only tried, and drops it', async () => {
    await edit(queries, id(), 'a', add('a'))
    attempt(() => void edit(queries, id(), 'try', (d) => void (d.removals[0].name = 'one')))
    attempt(() => void edit(queries, id(), 'try', (d) => void (d.removals[0].name = 'two')))
    expect(names(shown().document)).toEqual(['two'])
    expect(shown().pending).toHaveLength(1)
    dropAttempts()
    expect(names(shown().document)).toEqual(['a'])
    expect(server.patches).toHaveLength(1)
  })
  it('catches up after a break, and never goes back to an older state', async () => {
    await edit(queries, id(), 'a', add('a'))
    server.someoneElse([{ op: 'add', path: '/removals/-', value: { id: 'x', name: 'x' } }])
    catchUpAll(queries, id())
    await vi.waitFor(() => expect(names(shown().document)).toEqual(['a', 'x']), 10_000)
    server.number = 1 // a late answer
    server.document.removals.pop()
    catchUpAll(queries, id())
    await new Promise((done) => setTimeout(done, 50))
    expect(names(shown().document)).toEqual(['a', 'x'])
  })
})
