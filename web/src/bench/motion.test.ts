import { describe, expect, it } from 'vitest'
import type { Track } from '../api/client'
import { ofMatrix } from './mapping'
import { flatOf, type Motion } from './motion'

const motion = (corners: number[][], size: number[]): Motion => ({
  track: { card: { at: [0, 0, 0], turn: [0, 0, 0, 1], size } } as unknown as Track,
  samples: new Map(),
  points: new Map(),
  straight: corners.map(([x, y]) => ({ x, y })),
  at: () => null,
  running: null,
  found: null,
})

describe('a card seen flat', () => {
  // Twice as wide as high, its right side farther away.
  const corners = [
    [100, 100],
    [300, 130],
    [300, 210],
    [100, 220],
  ]
  it('has its own sides, upright, and goes to its corners', () => {
    const flat = flatOf(motion(corners, [4, 2]), null)!
    const back = flat.mapping.inverse()
    const [a, b, c, d] = corners.map(([x, y]) => back.apply({ x, y }))
    expect([b.y - a.y, d.x - a.x, c.x - b.x, d.y - c.y].every((v) => Math.abs(v) < 1e-6)).toBe(true)
    expect((b.x - a.x) / (d.y - a.y)).toBeCloseTo(2, 6)
    // As large as at its nearest: the left side is 120 high, and no side is shown shorter than it is seen.
    expect(d.y - a.y).toBeCloseTo(120, 6)
    expect(b.x - a.x).toBeGreaterThan(Math.hypot(200, 30))
    expect((a.x + c.x) / 2).toBeCloseTo(200, 6)
    // This is what is fitted to the room.
    expect(flat.size[0]).toBeCloseTo(b.x - a.x, 6)
    expect(flat.size[1]).toBeCloseTo(120, 6)
    expect(flat.middle.y).toBeCloseTo((a.y + c.y) / 2, 6)
  })
  it('goes through the lens, and is none of what is no card', () => {
    const lens = ofMatrix([1, 0, 7, 0, 1, -3, 0, 0, 1])
    const [plain, bent] = [flatOf(motion(corners, [4, 2]), null)!, flatOf(motion(corners, [4, 2]), lens)!]
    const p = plain.mapping.apply({ x: 190, y: 150 })
    const q = bent.mapping.apply({ x: 190, y: 150 })
    expect(q.x).toBeCloseTo(p.x + 7, 9)
    expect(q.y).toBeCloseTo(p.y - 3, 9)
    expect(flatOf({ ...motion(corners, [4, 2]), straight: null }, null)).toBeNull()
  })
})
