import type { Knot, Shape } from '../../api/client'
import type { Point } from '../matrix'
import type { Placement } from '../props'

export const vec = (p: Point): [number, number] => [Math.round(p.x * 100) / 100, Math.round(p.y * 100) / 100]
export const point = (v: number[]): Point => ({ x: v[0], y: v[1] })
export const plus = (a: Point, b: Point): Point => ({ x: a.x + b.x, y: a.y + b.y })
export const minus = (a: Point, b: Point): Point => ({ x: a.x - b.x, y: a.y - b.y })
export const distance = (a: Point, b: Point) => Math.hypot(a.x - b.x, a.y - b.y)
const zero = { x: 0, y: 0 }
export const inOf = (k: Knot) => (k.in ? point(k.in) : zero)
export const outOf = (k: Knot) => (k.out ? point(k.out) : zero)

/** SVG path data of a curve through knots. */
export function pathOf(knots: Knot[], placement: Pick<Placement, 'toRoom' | 'bent'>, closed = true) {
  if (knots.length === 0) return ''
  const s = (p: Point) => {
    const q = placement.toRoom(p)
    return `${q.x.toFixed(2)} ${q.y.toFixed(2)}`
  }
  let d = `M${s(point(knots[0].at))}`
  for (let i = 0; i < knots.length - (closed ? 0 : 1); i++) {
    const a = knots[i]
    const b = knots[(i + 1) % knots.length]
    const side = [point(a.at), plus(point(a.at), outOf(a)), plus(point(b.at), inOf(b)), point(b.at)]
    if (placement.bent) for (let k = 1; k <= 12; k++) d += `L${s(along(side, k / 12))}`
    else d += a.out || b.in ? `C${s(side[1])} ${s(side[2])} ${s(side[3])}` : `L${s(side[3])}`
  }
  return closed ? d + 'Z' : d
}

/** A place of a cubic curve. */
function along([a, b, c, d]: Point[], t: number): Point {
  const [p, q, r] = [lerp(a, b, t), lerp(b, c, t), lerp(c, d, t)]
  return lerp(lerp(p, q, t), lerp(q, r, t), t)
}

/** SVG path data of a polygon. */
export const polygonOf = (points: Point[], placement: Pick<Placement, 'toRoom' | 'bent'>) =>
  pathOf(
    points.map((p) => ({ at: [p.x, p.y] })),
    placement,
  )

/** Gives a sharp point handles a sixth of the way along its neighbours' direction, or takes them away. */
export function toggleSmooth(knots: Knot[], i: number, closed: boolean) {
  const k = knots[i]
  if (k.in || k.out) {
    delete k.in
    delete k.out
    return
  }
  const n = knots.length
  const before = point(knots[closed ? (i + n - 1) % n : Math.max(0, i - 1)].at)
  const after = point(knots[closed ? (i + 1) % n : Math.min(n - 1, i + 1)].at)
  const along = minus(after, before)
  k.out = vec({ x: along.x / 6, y: along.y / 6 })
  k.in = vec({ x: -along.x / 6, y: -along.y / 6 })
}

const lerp = (a: Point, b: Point, t: number) => ({ x: a.x + (b.x - a.x) * t, y: a.y + (b.y - a.y) * t })

function cubic(knots: Knot[], i: number) {
  const a = knots[i]
  const b = knots[(i + 1) % knots.length]
  return [point(a.at), plus(point(a.at), outOf(a)), plus(point(b.at), inOf(b)), point(b.at)]
}

/** de Casteljau's construction. */
function split(c: Point[], t: number) {
  const [ab, bc, cd] = [lerp(c[0], c[1], t), lerp(c[1], c[2], t), lerp(c[2], c[3], t)]
  const [abc, bcd] = [lerp(ab, bc, t), lerp(bc, cd, t)]
  return { ab, abc, mid: lerp(abc, bcd, t), bcd, cd }
}

/** The place on the curve that is nearest to a point: a segment, and how far along it. */
export function nearest(knots: Knot[], p: Point, closed: boolean) {
  let best = { d: Infinity, i: 0, t: 0.5 }
  for (let i = 0; i < knots.length - (closed ? 0 : 1); i++) {
    for (let k = 1; k < 40; k++) {
      const d = distance(split(cubic(knots, i), k / 40).mid, p)
      if (d < best.d) best = { d, i, t: k / 40 }
    }
  }
  return best
}

/** Splits a segment without changing the curve. */
export function insertKnot(knots: Knot[], where: { i: number; t: number }): Knot[] {
  const next = structuredClone(knots)
  const a = next[where.i]
  const b = next[(where.i + 1) % next.length]
  const s = split(cubic(knots, where.i), where.t)
  const mix = (x?: number, y?: number) => (x || y ? (x ?? 0) + ((y ?? 0) - (x ?? 0)) * where.t : undefined)
  const added: Knot = {
    at: vec(s.mid),
    feather: mix(a.feather, b.feather),
    featherIn: mix(a.featherIn, b.featherIn),
    width: mix(a.width, b.width),
  }
  if (a.out || b.in) {
    a.out = vec(minus(s.ab, point(a.at)))
    b.in = vec(minus(s.cd, point(b.at)))
    added.in = vec(minus(s.abc, s.mid))
    added.out = vec(minus(s.bcd, s.mid))
  }
  next.splice(where.i + 1, 0, JSON.parse(JSON.stringify(added)) as Knot)
  return next
}

/** A box, or the ellipse in it, between two corners. Four cubics come within 0.03 % of an ellipse's radius. */
export function boxKnots(a: Point, b: Point): Knot[] {
  return [
    { x: a.x, y: a.y },
    { x: b.x, y: a.y },
    { x: b.x, y: b.y },
    { x: a.x, y: b.y },
  ].map((p) => ({ at: vec(p) }))
}
export function ellipseKnots(a: Point, b: Point): Knot[] {
  const c = lerp(a, b, 0.5)
  const [rx, ry] = [Math.abs(b.x - a.x) / 2, Math.abs(b.y - a.y) / 2]
  const k = 0.5522847498
  const arm = (x: number, y: number) => vec({ x: x * rx * k, y: y * ry * k })
  return [
    { at: vec({ x: c.x, y: c.y - ry }), in: arm(-1, 0), out: arm(1, 0) },
    { at: vec({ x: c.x + rx, y: c.y }), in: arm(0, -1), out: arm(0, 1) },
    { at: vec({ x: c.x, y: c.y + ry }), in: arm(1, 0), out: arm(-1, 0) },
    { at: vec({ x: c.x - rx, y: c.y }), in: arm(0, 1), out: arm(0, -1) },
  ]
}

/** The box around knots. */
export function boundsOf(knots: Knot[]) {
  const [xs, ys] = [knots.map((k) => k.at[0]), knots.map((k) => k.at[1])]
  return { left: Math.min(...xs), right: Math.max(...xs), top: Math.min(...ys), bottom: Math.max(...ys) }
}

/** The middle around which a whole shape is turned and scaled: of the points that it was drawn with. */
export function middleOf(s: Shape): Point {
  const b = boundsOf(s.points)
  return { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 }
}
