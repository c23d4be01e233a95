import { describe, expect, it } from 'vitest'
import { apply, identity, invert, multiply, type Matrix } from './matrix'

/** Numbers by chance that are the same every time (Park & Miller 1988). */
function chance(seed: number) {
  return () => (seed = (seed * 48271) % 2147483647) / 2147483647
}

const some = (r: () => number): Matrix => {
  const a = r() * 6
  const k = 0.5 + r()
  return [
    k * Math.cos(a),
    -k * Math.sin(a),
    r() * 99,
    k * Math.sin(a),
    k * Math.cos(a),
    r() * 99,
    r() / 999,
    r() / 999,
    1,
  ]
}

describe('matrices', () => {
  it('are taken back by their inverse', () => {
    const r = chance(7)
    for (let i = 0; i < 200; i++) {
      const m = some(r)
      const p = { x: r() * 500, y: r() * 500 }
      const back = apply(invert(m), apply(m, p))
      expect(back.x).toBeCloseTo(p.x, 6)
      expect(back.y).toBeCloseTo(p.y, 6)
    }
  })
  it('multiplied are one after the other, the right one first', () => {
    const r = chance(9)
    for (let i = 0; i < 200; i++) {
      const [a, b] = [some(r), some(r)]
      const p = { x: r() * 500, y: r() * 500 }
      const both = apply(multiply(a, b), p)
      const each = apply(a, apply(b, p))
      expect(both.x).toBeCloseTo(each.x, 6)
      expect(both.y).toBeCloseTo(each.y, 6)
    }
  })
  it('by rows: the third and sixth numbers move', () => {
    expect(apply([1, 0, 5, 0, 1, -3, 0, 0, 1], { x: 1, y: 1 })).toEqual({ x: 6, y: -2 })
    expect(apply(identity, { x: 3, y: 4 })).toEqual({ x: 3, y: 4 })
  })
})
