import { expect, test } from 'vitest'
import type { Document, Removal, Stroke } from '../api/client'
import { readBrushes } from './brushes'
import {
  between,
  dragged,
  fromOf,
  matrixOf,
  mostSize,
  onStrokes,
  repeatOver,
  resizeStroke,
  sizeOnPicture,
} from './fill'
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

const painted = (id: string, range?: { first: number; last: number }): Stroke => ({
  id,
  mode: 'clone',
  home: range?.first ?? 5,
  size: 20,
  hardness: 1,
  opacity: 1,
  range,
  path: { points: [[1, 2]] },
})

const removal = (strokes: Stroke[]) =>
  ({
    id: 'r',
    range: { first: 1, last: 20 },
    fill: { sources: [{ id: 's', name: 'Travelling paint', kind: 'paint', paint: { strokes } }] },
  }) as unknown as Removal

test('strokes are repeated over frames that have none of their own, in one piece each', () => {
  const r = removal([
    painted('a', { first: 3, last: 3 }),
    painted('b', { first: 5, last: 5 }),
    painted('c', { first: 5, last: 5 }),
    painted('d', { first: 9, last: 9 }),
    painted('all'),
  ])
  const d = { removals: [structuredClone(r)] } as unknown as Document
  repeatOver(r, r.fill.sources[0], 6, { first: 2, last: 11 })!(d)
  const made = d.removals[0].fill.sources[0].paint!.strokes!.slice(5)
  expect(made.map((s) => [s.range!.first, s.range!.last])).toEqual([
    [2, 2],
    [2, 2],
    [4, 4],
    [4, 4],
    [6, 8],
    [6, 8],
    [10, 11],
    [10, 11],
  ])
  expect(made.every((s) => s.home === 5)).toBe(true)
  expect(new Set(made.map((s) => s.id)).size).toBe(8)
  expect(repeatOver(r, r.fill.sources[0], 2, { first: 2, last: 11 })).toBeNull()
  expect(repeatOver(r, r.fill.sources[0], 6, { first: 5, last: 5 })).toBeNull()
})

test('several strokes are chosen, resized and changed together', () => {
  const list = ['a', 'b', 'c', 'd'].map((id) => painted(id))
  expect(between(list, 'b', 'd')).toEqual(['b', 'c', 'd'])
  expect(between(list, 'd', 'b')).toEqual(['b', 'c', 'd'])
  expect(between(list, 'gone', 'b')).toEqual(['b'])
  const d = { removals: [removal(list)] } as unknown as Document
  onStrokes('r', ['a', 'c'], (s) => resizeStroke(s, 1.5))(d)
  expect(d.removals[0].fill.sources[0].paint!.strokes!.map((s) => s.size)).toEqual([30, 20, 30, 20])
  const area = { ...painted('x'), area: { points: [], feather: 4 } } as Stroke
  resizeStroke(area, 0.5)
  expect([area.size, area.area!.feather]).toEqual([20, 2])
  const huge = painted('y')
  resizeStroke(huge, 1e9)
  expect(huge.size).toBe(mostSize)
})

test('a brush of so many screen pixels is smaller on a picture that is closer', () => {
  const b = { ...initial.brush, size: 40 }
  expect(sizeOnPicture(b, 4)).toBe(40)
  expect(sizeOnPicture({ ...b, sized: 'screen' }, 4)).toBe(10)
  expect(sizeOnPicture({ ...b, sized: 'screen' }, 0.001)).toBe(mostSize)
})

test('of brushes that an older page kept, or another one, what is no longer of its kind is as a new one has it', () => {
  expect(readBrushes(null)).toEqual({})
  expect(readBrushes('nonsense')).toEqual({})
  const kept = {
    '7': { ...initial.brush, size: 77, pen: 'size', sized: undefined, extra: 1 },
    '6': { mode: 'burn' },
    '5': initial.brush,
  }
  const read = readBrushes(JSON.stringify(kept))
  expect(Object.keys(read)).toEqual(['7'])
  expect(read['7']).toEqual({ ...initial.brush, size: 77 })
})
