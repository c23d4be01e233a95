import { describe, expect, it } from 'vitest'
import type { FillSource, Removal } from '../../api/client'
import { kinds, paintable, paintedAt, pictureOf, strokeList, strokesOf, travels } from './kinds'
import { newNeighbour, offsetAt, setOffset } from './neighbour'
import { newPaint } from './paint'
import { newPlate } from './plate'

const removal = { mark: { outlines: [] }, fill: { sources: [] } } as unknown as Removal

describe('kinds of sources', () => {
  it('each have their own object, and only that', () => {
    for (const s of [newPlate(removal, 7), newPaint(removal), newNeighbour(removal, 7)]) {
      const own = Object.keys(kinds).filter((k) => k in s)
      expect(own).toEqual([s.kind])
      expect(paintable(s)).toBe(s.kind !== 'neighbour')
      expect(paintedAt(s)).toBe(s.kind === 'plate' ? 7 : undefined)
      expect(travels(s)).toBe(s.kind === 'paint')
      expect(pictureOf(s)).toBeUndefined()
    }
  })
  it('give their strokes to be looked at and to be changed', () => {
    const s: FillSource = { id: 'p', name: 'p', kind: 'plate', plate: { frame: 7 } }
    expect(strokesOf(s)).toEqual([])
    strokeList(s)!.push({ id: 's' } as never)
    expect(strokesOf(s)).toHaveLength(1)
    expect(strokeList(newNeighbour(removal, 7))).toBeUndefined()
  })
  it('are named apart', () => {
    const one = newPlate(removal, 7)
    expect(newPlate({ ...removal, fill: { sources: [one] } } as Removal, 7).name).toBe('Clean plate 7, 2')
    expect(newPlate({ ...removal, fill: { sources: [one] } } as Removal, 8).name).toBe('Clean plate 8')
  })
})

describe("a neighbour's offset", () => {
  const s = () => newNeighbour(removal, 10)
  it('is one for all frames until it is keyed', () => {
    const n = s()
    setOffset(n, 30, () => ({ x: 5, y: 6 }))
    expect(n.neighbour!.offsets).toEqual([{ frame: 10, ease: 'eased', offset: [5, 6] }])
  })
  it('goes straight between keys, and stays beyond them', () => {
    const n = s()
    n.neighbour!.offsets = [
      { frame: 10, ease: 'linear', offset: [0, 0] },
      { frame: 20, ease: 'linear', offset: [10, -20] },
    ]
    expect(offsetAt(n, 15)).toEqual({ x: 5, y: -10 })
    expect(offsetAt(n, 5)).toEqual({ x: 0, y: 0 })
    expect(offsetAt(n, 99)).toEqual({ x: 10, y: -20 })
    setOffset(n, 14, (o) => ({ x: o.x + 1, y: o.y }))
    expect(n.neighbour!.offsets.map((k) => k.frame)).toEqual([10, 14, 20])
    expect(n.neighbour!.offsets[1].offset).toEqual([5, -8])
  })
})
