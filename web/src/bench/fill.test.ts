import { expect, test } from 'vitest'
import { dragged, fromOf, matrixOf } from './fill'
import { apply } from './matrix'
import { initial, type Origin } from './state'

// Wherever it is taken hold of and however it lies: what was seen at the one place is seen at the other then.
test('a frame on loan goes along with the hand', () => {
  let seed = 7
  const dice = () => (seed = (seed * 48271) % 2147483647) / 2147483647
  const some = (span: number) => (dice() - 0.5) * span
  for (let i = 0; i < 300; i++) {
    const o: Origin = {
      ...initial.origin,
      frame: 1050,
      middle: { x: 400 + some(100), y: 300 + some(100) },
      offset: { x: some(40), y: some(40) },
      turn: some(300),
      scale: 0.5 + dice(),
      mirror: dice() < 0.5,
      crisp: false,
    }
    const seenAt = (x: Origin, p: { x: number; y: number }) => apply(matrixOf(fromOf(x, x.offset!), x.middle!), p)
    const from = { x: o.middle!.x + 60 + some(80), y: o.middle!.y + 60 + some(80) }
    const to = { x: from.x + some(60), y: from.y + some(60) }
    const near = (x: Origin, a: { x: number; y: number }, b: { x: number; y: number }) => {
      const [was, is] = [seenAt(o, a), seenAt(x, b)]
      expect(Math.hypot(was.x - is.x, was.y - is.y)).toBeLessThan(0.06)
    }
    near({ ...o, ...dragged(o, from, to, 'move') }, from, to)
    // Turned, it keeps its distance to the middle; scaled, its direction.
    const r = Math.hypot(from.x - o.middle!.x, from.y - o.middle!.y)
    const way = Math.atan2(to.y - o.middle!.y, to.x - o.middle!.x)
    near({ ...o, ...dragged(o, from, to, 'turn') }, from, {
      x: o.middle!.x + r * Math.cos(way),
      y: o.middle!.y + r * Math.sin(way),
    })
    const k = 0.7 + dice()
    const out = { x: o.middle!.x + (from.x - o.middle!.x) * k, y: o.middle!.y + (from.y - o.middle!.y) * k }
    near({ ...o, ...dragged(o, from, out, 'scale') }, from, out)
  }
})
