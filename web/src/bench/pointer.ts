import { bench } from './state'

/**
 * Pens and fingers. A pen paints, its blunt end erases, and its barrel button opens the ring of tools. As long as a pen is
 * about, hands may rest on the screen: one finger does nothing where a tool is in hand. Two fingers move the picture and
 * bring it closer.
 */

/** When a pen was last seen, in the time of events. */
let penAt = -Infinity
const about = 60_000

/** Whether a pointer is a hand that rests: a finger while a pen is about. */
export function rests(e: { pointerType: string; timeStamp: number }): boolean {
  if (e.pointerType === 'pen') penAt = e.timeStamp
  return e.pointerType === 'touch' && e.timeStamp - penAt < about
}

/** Where a pen's upper end leans to, as shares of a right angle; null where the pen does not tell. */
export function leanOf(e: { tiltX: number; tiltY: number }): [number, number] | null {
  if (!e.tiltX && !e.tiltY) return null
  const [x, y] = [e.tiltX, e.tiltY].map((d) => Math.tan((Math.max(-89, Math.min(89, d)) * Math.PI) / 180))
  // The tangents of both tilts are the place of the upper end over the tip, for a height of one.
  const far = Math.hypot(x, y)
  const share = Math.atan(far) / (Math.PI / 2)
  return [x, y].map((v) => Math.round((v / far) * share * 1000) / 1000) as [number, number]
}

/** The blunt end of a pen, which erases. */
export const isBlunt = (e: { pointerType: string; button: number; buttons: number }) =>
  e.pointerType === 'pen' && (e.button === 5 || (e.buttons & 32) !== 0)

interface Finger {
  x: number
  y: number
}

/**
 * Follows fingers on the picture. With the second one down what the first began is given up, and both move the picture
 * as paper under them, closer and farther.
 */
export function followFingers() {
  const down = new Map<number, Finger>()
  return {
    /** True if this is a second finger, or one of two. */
    begin(e: PointerEvent) {
      if (e.pointerType !== 'touch') return false
      down.set(e.pointerId, { x: e.clientX, y: e.clientY })
      return down.size > 1
    },
    /** How two fingers moved: a factor around a place, and by how much that place moved; null for anything else. */
    move(e: PointerEvent): { factor: number; at: Finger; by: Finger } | null {
      const was = down.get(e.pointerId)
      if (!was) return null
      const now = { x: e.clientX, y: e.clientY }
      down.set(e.pointerId, now)
      if (down.size !== 2) return null
      const other = [...down].find(([id]) => id !== e.pointerId)![1]
      const [before, after] = [
        Math.hypot(was.x - other.x, was.y - other.y),
        Math.hypot(now.x - other.x, now.y - other.y),
      ]
      return {
        factor: before > 8 && after > 8 ? after / before : 1,
        at: { x: (now.x + other.x) / 2, y: (now.y + other.y) / 2 },
        by: { x: (now.x - was.x) / 2, y: (now.y - was.y) / 2 },
      }
    },
    end(e: PointerEvent) {
      down.delete(e.pointerId)
    },
    count: () => down.size,
  }
}

/** Keys that are held now, for tools that ask. */
export const held = new Set<string>()

/** Holds a key for the next touch of the picture, as a hand on the keyboard would. */
export function holdNext(key: string, tells: string) {
  release()
  held.add(key)
  bench.set({ armed: { key, tells } })
  const up = () => {
    removeEventListener('pointerup', up)
    removeEventListener('pointercancel', up)
    release()
  }
  // Not the pointer that chose it in the ring, which is still down.
  setTimeout(() => {
    addEventListener('pointerup', up)
    addEventListener('pointercancel', up)
  })
}

/** Lets go of what is held for the next touch. */
export function release() {
  const { armed } = bench.get()
  if (!armed) return
  held.delete(armed.key)
  bench.set({ armed: null })
}
