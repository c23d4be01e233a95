import type { Schemas } from '../api/client'
import { apply as applyMatrix, identity as identityMatrix, invert, multiply, type Matrix, type Point } from './matrix'

/**
 * Takes places of one frame, or of a home, to places of another, whatever does it: the counterpart of the server's
 * package warp. Nothing outside of this file asks what a mapping is made of.
 */
export interface Mapping {
  apply(p: Point): Point
  /** The place as x, y and w, of which x / w and y / w are apply's; w does not change its sign where all is seen. */
  homogeneous(p: Point): [number, number, number]
  inverse(): Mapping
  /** Cells along each side that a picture needs to follow it; 1 where straight lines stay straight. */
  cells: number
  /** Equal for mappings that do the same. */
  key: string
}

/** A homography. */
class Plane implements Mapping {
  readonly cells = 1

  constructor(readonly matrix: Matrix) {}

  get key() {
    return this.matrix.join()
  }

  apply(p: Point) {
    return applyMatrix(this.matrix, p)
  }

  homogeneous({ x, y }: Point): [number, number, number] {
    const m = this.matrix
    return [m[0] * x + m[1] * y + m[2], m[3] * x + m[4] * y + m[5], m[6] * x + m[7] * y + m[8]]
  }

  inverse(): Mapping {
    return new Plane(invert(this.matrix))
  }
}

/** A grid over a box, each of whose nodes is moved; between them cubic convolution (Keys 1981), as on the server. */
class Lattice implements Mapping {
  constructor(
    private left: number,
    private top: number,
    private width: number, // of a cell
    private height: number,
    readonly cells: number,
    private shifts: Point[],
  ) {}

  get key() {
    return [this.left, this.top, this.width, this.height, ...this.shifts.flatMap((s) => [s.x, s.y])].join()
  }

  private shift(p: Point): Point {
    const n = this.cells
    const clamp = (v: number) => Math.min(Math.max(v, 0), n)
    const [u, v] = [clamp((p.x - this.left) / this.width), clamp((p.y - this.top) / this.height)]
    const [i, j] = [Math.min(Math.floor(u), n - 1), Math.min(Math.floor(v), n - 1)]
    const [wx, wy] = [cubic(u - i), cubic(v - j)]
    const out = { x: 0, y: 0 }
    for (let b = 0; b < 4; b++)
      for (let a = 0; a < 4; a++) {
        const s = this.shifts[clamp(j + b - 1) * (n + 1) + clamp(i + a - 1)]
        out.x += s.x * wx[a] * wy[b]
        out.y += s.y * wx[a] * wy[b]
      }
    return out
  }

  apply(p: Point) {
    const s = this.shift(p)
    return { x: p.x + s.x, y: p.y + s.y }
  }

  homogeneous(p: Point): [number, number, number] {
    const q = this.apply(p)
    return [q.x, q.y, 1]
  }

  inverse(): Mapping {
    return new Unbent(this)
  }
}

const cubic = (t: number) => {
  const [t2, t3] = [t * t, t * t * t]
  return [-0.5 * t + t2 - 0.5 * t3, 1 - 2.5 * t2 + 1.5 * t3, 0.5 * t + 2 * t2 - 1.5 * t3, -0.5 * t2 + 0.5 * t3]
}

/** The way back through a lattice, by going there again and again. */
class Unbent implements Mapping {
  constructor(private lattice: Lattice) {}

  get cells() {
    return this.lattice.cells
  }

  get key() {
    return `back ${this.lattice.key}`
  }

  apply(q: Point) {
    let p = q
    for (let k = 0; k < 40; k++) {
      const to = this.lattice.apply(p)
      const next = { x: p.x + q.x - to.x, y: p.y + q.y - to.y }
      if (Math.hypot(next.x - p.x, next.y - p.y) < 1e-4) return next
      p = next
    }
    return p
  }

  homogeneous(q: Point): [number, number, number] {
    const p = this.apply(q)
    return [p.x, p.y, 1]
  }

  inverse(): Mapping {
    return this.lattice
  }
}

/** Several mappings, the first one first. */
class Chained implements Mapping {
  constructor(readonly steps: Mapping[]) {}

  get cells() {
    return Math.max(...this.steps.map((s) => s.cells))
  }

  get key() {
    return this.steps.map((s) => s.key).join(' ')
  }

  apply(p: Point) {
    return this.steps.reduce((q, s) => s.apply(q), p)
  }

  homogeneous(p: Point): [number, number, number] {
    let out: [number, number, number] = [p.x, p.y, 1]
    for (const s of this.steps) {
      const [x, y, w] = s.homogeneous({ x: out[0] / out[2], y: out[1] / out[2] })
      out = [x * out[2], y * out[2], w * out[2]]
    }
    return out
  }

  inverse(): Mapping {
    return new Chained(this.steps.map((s) => s.inverse()).reverse())
  }
}

/** The mapping of a matrix. */
export const ofMatrix = (m: Matrix): Mapping => new Plane(m)

export const identity: Mapping = new Plane(identityMatrix)

/** Moves every place by so much. */
export const translation = (x: number, y: number): Mapping => new Plane([1, 0, x, 0, 1, y, 0, 0, 1])

/** One mapping after the other, the first one first; neighbours that are homographies become one. */
export function chain(...mappings: Mapping[]): Mapping {
  const steps: Mapping[] = []
  for (const s of mappings.flatMap((m) => (m instanceof Chained ? m.steps : [m]))) {
    const last = steps.at(-1)
    if (s instanceof Plane && last instanceof Plane)
      steps[steps.length - 1] = new Plane(multiply(s.matrix, last.matrix))
    else steps.push(s)
  }
  return steps.length === 1 ? steps[0] : new Chained(steps)
}

/** By how much lengths grow at a place: the square root of the areas' ratio. */
export function scaleAt(m: Mapping, p: Point): number {
  const d = 0.5
  const [a, b] = [m.apply({ x: p.x - d, y: p.y }), m.apply({ x: p.x + d, y: p.y })]
  const [e, f] = [m.apply({ x: p.x, y: p.y - d }), m.apply({ x: p.x, y: p.y + d })]
  return Math.sqrt(Math.abs((b.x - a.x) * (f.y - e.y) - (b.y - a.y) * (f.x - e.x)))
}

/** From the unit square to four corners (Heckbert 1989, "Fundamentals of texture mapping", section 2.2.3). */
export function square([a, b, c, d]: Point[]): Mapping {
  const [dx1, dy1, dx2, dy2] = [b.x - c.x, b.y - c.y, d.x - c.x, d.y - c.y]
  const [sx, sy] = [a.x - b.x + c.x - d.x, a.y - b.y + c.y - d.y]
  const det = dx1 * dy2 - dx2 * dy1 || 1e-9
  const [g, h] = [(sx * dy2 - dx2 * sy) / det, (dx1 * sy - sx * dy1) / det]
  return new Plane([
    b.x - a.x + g * b.x,
    d.x - a.x + h * d.x,
    a.x,
    b.y - a.y + g * b.y,
    d.y - a.y + h * d.y,
    a.y,
    g,
    h,
    1,
  ])
}

export type Mesh = Schemas['Mesh']

const read = new WeakMap<Mesh, Mapping>()

/** The mapping that a mesh tells. */
export function ofMesh(mesh: Mesh): Mapping {
  let m = read.get(mesh)
  if (!m) read.set(mesh, (m = readMesh(mesh)))
  return m
}

function readMesh({ box, cells: n, places }: Mesh): Mapping {
  const [left, top, right, bottom] = box
  const [width, height] = [(right - left) / n, (bottom - top) / n]
  const at = (i: number, j: number): Point => ({
    x: places[2 * (j * (n + 1) + i)],
    y: places[2 * (j * (n + 1) + i) + 1],
  })
  const unit = ofMatrix([
    1 / (right - left),
    0,
    -left / (right - left),
    0,
    1 / (bottom - top),
    -top / (bottom - top),
    0,
    0,
    1,
  ])
  const plane = chain(unit, square([at(0, 0), at(n, 0), at(n, n), at(0, n)]))
  if (n === 1) return plane
  const back = plane.inverse()
  const shift = (i: number, j: number): Point => {
    const p = back.apply(at(i, j))
    return { x: p.x - (left + i * width), y: p.y - (top + j * height) }
  }
  // One more cell on each side, over which the slope at the edge goes on.
  const on = (i: number, of: (i: number) => Point): Point => {
    if (i >= 0 && i <= n) return of(i)
    const [edge, next] = i < 0 ? [of(0), of(1)] : [of(n), of(n - 1)]
    return { x: 2 * edge.x - next.x, y: 2 * edge.y - next.y }
  }
  const shifts: Point[] = []
  for (let j = -1; j <= n + 1; j++)
    for (let i = -1; i <= n + 1; i++) shifts.push(on(i, (a) => on(j, (b) => shift(a, b))))
  return chain(new Lattice(left - width, top - height, width, height, n + 2, shifts), plane)
}

/** A mapping told by places over a box. */
export function meshOf(m: Mapping, box: Mesh['box']): Mesh {
  const [left, top, right, bottom] = box
  const cells = Math.min(m.cells, 24)
  const places: number[] = []
  for (let j = 0; j <= cells; j++)
    for (let i = 0; i <= cells; i++) {
      const p = m.apply({ x: left + ((right - left) * i) / cells, y: top + ((bottom - top) * j) / cells })
      places.push(p.x, p.y)
    }
  return { box, cells, places }
}
