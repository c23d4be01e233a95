import type { Operation } from 'fast-json-patch'
import type { Brief, FillSource, Stroke } from '../api/client'
import { actingQuery } from '../api/me'
import { again, done, keep, recovered, setAway, unsentOf, type Unsent } from '../api/unsent'
import { notify } from '../ui/notice'

type Reply =
  | { type: 'saved'; stroke: string; base: number; patch: Operation[] | null; revision: Brief }
  | { type: 'refused'; stroke: string; detail: string }

type Pending = Unsent & { kind: 'stroke' }

/**
 * The brush channel: sends a stroke while the hand moves, and takes back the pixels that it changes. Strokes are kept
 * until the server has confirmed them: those that were not when the connection broke, when the page was left or the
 * browser closed, are sent again, whole.
 */
export class BrushChannel {
  private socket: WebSocket | null = null
  private pending: Pending[] = []
  private closed = false
  private queue: number[][] = []
  private scheduled = false
  private tries = 0
  /** Called with pixels of the stroke in progress. */
  onPixels: (frame: number, x: number, y: number, width: number, height: number, rgba: Uint8Array) => void = () =>
    undefined
  onSaved: (revision: Brief, base: number, patch: Operation[] | null, stroke: string) => void = () => undefined
  onRefused: () => void = () => undefined
  /** Pixels come as code values, for a table that takes them to the screen. */
  code = false
  /** When the last pointer event came, and how long it took until its pixels were on the screen: for the bench. */
  sentAt = 0
  latencies: number[] = []
  /** How long it took until the pixels were back from the server. */
  trips: number[] = []

  constructor(
    private shot: string,
    own = true,
  ) {
    if (own) this.open()
    else this.closed = true // it only sends what was left, and ends
  }

  /** Sends strokes that an earlier page, or an earlier channel, left. */
  static async finish(shot: string, saved: BrushChannel['onSaved'], busy: () => boolean) {
    await recovered
    if (busy()) return
    const left = unsentOf(shot).filter((u): u is Pending => u.kind === 'stroke' && !u.stuck)
    // One that the hand had not ended when the page went is no stroke.
    left.filter((p) => !p.ended).forEach((p) => done(p.id))
    const c = new BrushChannel(shot, false)
    c.onSaved = saved
    c.pending = left.filter((p) => p.ended)
    if (c.pending.length) c.open()
  }

  private open() {
    const socket = new WebSocket(
      `${location.origin.replace(/^http/, 'ws')}/api/shots/${this.shot}/brush?${actingQuery()}`,
    )
    socket.binaryType = 'arraybuffer'
    this.socket = socket
    socket.onopen = () => {
      this.tries = 0
      for (const p of this.pending) {
        this.send({
          type: 'begin',
          removal: p.removal,
          source: p.source,
          stroke: p.stroke,
          points: p.points,
          code: this.code,
        })
        if (p.ended) this.send({ type: 'end' })
      }
      this.endIfDone()
    }
    socket.onmessage = (e: MessageEvent<ArrayBuffer | string>) => {
      setAway(false)
      if (typeof e.data !== 'string') {
        const sent = this.sentAt
        this.trips.push(performance.now() - sent)
        requestAnimationFrame(() =>
          setTimeout(() => {
            this.latencies.push(performance.now() - sent)
            if (this.latencies.length > 2000) this.latencies.shift()
          }),
        )
        const head = new DataView(e.data)
        const at = (i: number) => head.getInt32(4 * i, true)
        this.onPixels(this.pending[0]?.stroke.home ?? 0, at(0), at(1), at(2), at(3), new Uint8Array(e.data, 16))
        return
      }
      const reply = JSON.parse(e.data) as Reply
      this.pending = this.pending.filter((p) => p.stroke.id !== reply.stroke)
      done(reply.stroke)
      if (reply.type === 'saved') this.onSaved(reply.revision, reply.base, reply.patch, reply.stroke)
      else {
        notify(`The stroke was not kept: ${reply.detail}`)
        this.onRefused()
      }
      this.endIfDone()
    }
    socket.onclose = () => {
      this.socket = null
      if (this.closed && !this.pending.length) return
      if (this.pending.length) setAway(true)
      // Soon at first, then less often: it may be away for long.
      setTimeout(() => (!this.closed || this.pending.length) && this.open(), Math.min(700 * 1.5 ** this.tries++, 5000))
    }
  }

  /** A channel that was closed goes on until all that was painted is safe. */
  private endIfDone() {
    if (this.closed && !this.pending.length) this.socket?.close()
  }

  private send(message: unknown) {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(message))
  }

  begin(removal: string, source: FillSource, stroke: Stroke, point: number[], at: number) {
    const p = keep({
      kind: 'stroke',
      id: stroke.id,
      shot: this.shot,
      removal,
      source,
      stroke,
      points: [point],
      ended: false,
    }) as Pending
    this.pending.push(p)
    this.sentAt = at
    this.send({ type: 'begin', removal, source, stroke, points: [point], code: this.code })
  }

  /** Points of one screen frame go together. */
  move(points: number[][], at: number) {
    const p = this.pending.at(-1)
    if (!p || p.ended) return
    this.sentAt = at
    p.points.push(...points)
    this.queue.push(...points)
    if (this.scheduled) return
    this.scheduled = true
    queueMicrotask(() => this.flush())
  }

  private flush() {
    this.scheduled = false
    if (!this.queue.length) return
    this.send({ type: 'move', points: this.queue })
    this.queue = []
  }

  end() {
    const p = this.pending.at(-1)
    if (!p || p.ended) return
    this.flush()
    p.ended = true
    again({ ...p })
    this.send({ type: 'end' })
  }

  /** Gives up the stroke that is being painted; false if none is. */
  drop(): boolean {
    const p = this.pending.at(-1)
    if (!p || p.ended) return false
    this.pending.pop()
    this.queue = []
    done(p.id)
    this.send({ type: 'drop' })
    this.onRefused()
    return true
  }

  get waiting() {
    return this.pending.length
  }

  close() {
    const p = this.pending.at(-1)
    if (p && !p.ended) this.end()
    this.closed = true
    if (this.pending.length === 0) this.socket?.close()
  }
}
