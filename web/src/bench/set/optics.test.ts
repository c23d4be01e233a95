import { expect, it } from 'vitest'
import { ofMatrix } from '../mapping'
import { opticsOf, placeAt, seenAt, type View } from './optics'
import type { Space } from './queries'

const space = { width: 960, height: 540 } as Space
const view = (eye: number[], turn: number[]): View => ({ frame: 1, focal: 800, eye, turn }) as View

it('sees what is straight ahead at the principal point, above as above, and what is squeezed as narrower', () => {
  const optics = opticsOf({ size: [960, 540], k: [0, 0, 0], centre: [500, 260], squeeze: 2 }, space, null)
  const ahead = view([1, 2, 3], [0, 0, 0, 1])
  expect(seenAt([1, 2, -7], ahead, optics)).toEqual({ x: 500, y: 260 })
  // A metre to the right and a half up, at ten: 800 / 10 pixels for each metre, half of that across.
  expect(seenAt([2, 2.5, -7], ahead, optics)).toEqual({ x: 540, y: 220 })
  expect(seenAt([1, 2, 5], ahead, optics)).toBeNull()
})

it('looks the way it is turned', () => {
  const s = Math.SQRT1_2
  // A quarter turn about y: from -z to -x.
  const p = seenAt([-5, 0, 0], view([0, 0, 0], [0, s, 0, s]), opticsOf(null, space, null))!
  expect(p.x).toBeCloseTo(480, 9)
  expect(p.y).toBeCloseTo(270, 9)
})

it('goes through the lens, and back from where it is seen', () => {
  const lens = ofMatrix([1.02, 0.01, 3, -0.02, 0.97, -5, 1e-5, -2e-5, 1])
  const plain = opticsOf(null, space, null)
  for (let i = 0; i < 50; i++) {
    const turn = Array.from({ length: 4 }, () => Math.random() - 0.5)
    const n = Math.hypot(...turn)
    const v = view(
      Array.from({ length: 3 }, () => 10 * Math.random()),
      turn.map((q) => q / n),
    )
    const [x, y, depth] = [960 * Math.random(), 540 * Math.random(), 1 + 9 * Math.random()]
    const optics = opticsOf({ size: [960, 540], k: [0, 0, 0], centre: [470, 280], squeeze: 1.3 }, space, lens)
    const p = placeAt(x, y, depth, v, optics)
    const q = seenAt(p, v, optics)!
    expect(Math.hypot(q.x - x, q.y - y)).toBeLessThan(1e-6)
    const bent = lens.apply(seenAt(p, v, plain)!)
    const same = seenAt(p, v, opticsOf(null, space, lens))!
    expect(same.x).toBeCloseTo(bent.x, 9)
    expect(same.y).toBeCloseTo(bent.y, 9)
  }
})
