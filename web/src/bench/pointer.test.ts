import { describe, expect, it } from 'vitest'
import { followFingers, isBlunt, leanOf, rests } from './pointer'

const finger = (pointerId: number, clientX: number, clientY: number) =>
  ({ pointerType: 'touch', pointerId, clientX, clientY }) as PointerEvent

describe('pens and fingers', () => {
  it('tells where a pen leans to', () => {
    expect(leanOf({ tiltX: 0, tiltY: 0 })).toBeNull()
    expect(leanOf({ tiltX: 45, tiltY: 0 })).toEqual([0.5, 0])
    expect(leanOf({ tiltX: 0, tiltY: -60 })![1]).toBeCloseTo(-60 / 90, 2)
    // Pointer Events level 3: an altitude of 45 degrees at an azimuth of 45 is a tilt of 35.26 degrees each way.
    const [x, y] = leanOf({ tiltX: 35.26, tiltY: 35.26 })!
    expect(Math.hypot(x, y)).toBeCloseTo(0.5, 2)
    for (const v of leanOf({ tiltX: 90, tiltY: -90 })!) expect(Math.abs(v)).toBeLessThanOrEqual(1)
  })

  it('knows the blunt end of a pen', () => {
    expect(isBlunt({ pointerType: 'pen', button: 5, buttons: 32 })).toBe(true)
    expect(isBlunt({ pointerType: 'pen', button: 0, buttons: 1 })).toBe(false)
    expect(isBlunt({ pointerType: 'mouse', button: 5, buttons: 32 })).toBe(false)
  })

  it('lets hands rest as long as a pen is about', () => {
    expect(rests({ pointerType: 'touch', timeStamp: 10 })).toBe(false)
    expect(rests({ pointerType: 'pen', timeStamp: 1000 })).toBe(false)
    expect(rests({ pointerType: 'touch', timeStamp: 2000 })).toBe(true)
    expect(rests({ pointerType: 'mouse', timeStamp: 2000 })).toBe(false)
    expect(rests({ pointerType: 'touch', timeStamp: 100_000 })).toBe(false)
  })

  it('keeps what lies under two fingers under them', () => {
    const f = followFingers()
    expect(f.begin(finger(1, 100, 100))).toBe(false)
    expect(f.move(finger(1, 90, 100))).toBeNull()
    expect(f.begin(finger(2, 200, 140))).toBe(true)
    // The picture as a factor and a shift of the room; what lay under each finger lies there still, but for a turn.
    let [k, dx, dy] = [1, 0, 0]
    const was = [
      { x: 90, y: 100 },
      { x: 200, y: 140 },
    ]
    const along = (t: number) => [
      { x: 90 - 60 * t, y: 100 + (-20 * t * 6) / 11 + 7 * t },
      { x: 200 + 50 * t, y: 140 + 20 * t + 7 * t },
    ]
    for (let i = 1; i <= 20; i++)
      along(i / 20).forEach((p, id) => {
        const to = f.move(finger(id + 1, p.x, p.y))!
        ;[k, dx, dy] = [k * to.factor, to.at.x + (dx - to.at.x) * to.factor, to.at.y + (dy - to.at.y) * to.factor]
        ;[dx, dy] = [dx + to.by.x, dy + to.by.y]
      })
    const now = along(1)
    expect(k).toBeCloseTo(Math.hypot(now[1].x - now[0].x, now[1].y - now[0].y) / Math.hypot(110, 40), 3)
    was.forEach((p, i) => expect(Math.hypot(p.x * k + dx - now[i].x, p.y * k + dy - now[i].y)).toBeLessThan(6))
    f.end(finger(1, 0, 0))
    expect(f.move(finger(2, 0, 0))).toBeNull()
    expect(f.count()).toBe(1)
  })
})
