import type { Schemas } from '../../api/client'
import { identity, type Mapping } from '../mapping'
import type { Point } from '../matrix'
import type { Space } from './queries'

/** How the camera sees: its principal point and squeeze, and what its lens does to the straight picture. */
export interface Optics {
  centre: Point
  squeeze: number
  lens: Mapping
}

/** The optics of a shot's lens, whose mapping from the straight picture is given where it bows. */
export function opticsOf(l: Schemas['Lens'] | null | undefined, space: Space, lens: Mapping | null): Optics {
  const [x, y] = l?.centre ?? [space.width / 2, space.height / 2]
  return { centre: { x, y }, squeeze: l?.squeeze || 1, lens: lens ?? identity }
}

export type View = Space['views'][number]

/** Where a place in space is seen, in pixels of the plate; null behind the camera. */
export function seenAt(p: number[], view: View, { centre, squeeze, lens }: Optics): Point | null {
  const q = turnedBack(
    view.turn,
    p.map((a, k) => a - view.eye[k]),
  )
  if (!(q[2] < 0)) return null
  const f = view.focal / -q[2]
  return lens.apply({ x: centre.x + (q[0] * f) / squeeze, y: centre.y - q[1] * f })
}

/** The place that is seen at pixel x, y of the plate, so far before the camera. */
export function placeAt(x: number, y: number, depth: number, view: View, { centre, squeeze, lens }: Optics) {
  const s = lens.inverse().apply({ x, y })
  const k = depth / view.focal
  return add(view.eye, turned(view.turn, [(s.x - centre.x) * squeeze * k, (centre.y - s.y) * k, -depth]))
}

export const add = (a: number[], b: number[]) => a.map((v, i) => v + b[i])

/** A vector turned by a quaternion. */
export function turned([x, y, z, w]: number[], v: number[]): number[] {
  const t = cross([x, y, z], v).map((c) => 2 * c)
  const u = cross([x, y, z], t)
  return v.map((c, i) => c + w * t[i] + u[i])
}

const turnedBack = ([x, y, z, w]: number[], v: number[]) => turned([-x, -y, -z, w], v)

const cross = (a: number[], b: number[]) => [
  a[1] * b[2] - a[2] * b[1],
  a[2] * b[0] - a[0] * b[2],
  a[0] * b[1] - a[1] * b[0],
]
