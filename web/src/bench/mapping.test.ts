import meshes from '../../../core/warp/testdata/meshes.json'
import { describe, expect, it } from 'vitest'
import { chain, identity, meshOf, ofMatrix, ofMesh, scaleAt, square, type Mesh } from './mapping'
import type { Point } from './matrix'

const cases = meshes as unknown as {
  mesh: Mesh
  from: [number, number][]
  to: [number, number][]
}[]
const near = (a: Point, b: Point, within: number) => expect(Math.hypot(a.x - b.x, a.y - b.y)).toBeLessThan(within)
const at = ([x, y]: [number, number]) => ({ x, y })
const tilt = ofMatrix([1.1, 0.1, 4, -0.2, 0.9, 7, 1e-4, -2e-4, 1])

describe('mappings', () => {
  it('reads a mesh as the server does', () => {
    expect(cases.map((c) => c.mesh.cells)).toContain(4)
    for (const c of cases) c.from.forEach((p, i) => near(ofMesh(c.mesh).apply(at(p)), at(c.to[i]), 1e-6))
  })

  it('goes back where it came from', () => {
    for (const c of cases) {
      const m = chain(tilt, ofMesh(c.mesh), tilt)
      for (const p of c.from) near(m.inverse().apply(m.apply(at(p))), at(p), 2e-3)
    }
  })

  it('says the same by x, y and w', () => {
    for (const c of cases) {
      const m = chain(tilt, ofMesh(c.mesh), tilt)
      for (const p of c.from) {
        const [x, y, w] = m.homogeneous(at(p))
        near({ x: x / w, y: y / w }, m.apply(at(p)), 1e-9)
      }
    }
  })

  it('is one homography where it is nothing but homographies', () => {
    const both = chain(tilt, tilt.inverse())
    expect(both.cells).toBe(1)
    near(both.apply({ x: 31, y: 8 }), { x: 31, y: 8 }, 1e-9)
    expect(chain(identity).key).toBe(identity.key)
    expect(chain(tilt).key).not.toBe(identity.key)
  })

  it('is told by its own mesh', () => {
    const { box } = cases[0].mesh
    const again = ofMesh(meshOf(tilt, box))
    for (const p of cases[0].from) near(again.apply(at(p)), tilt.apply(at(p)), 1e-6)
  })

  it('knows by how much lengths grow', () => {
    expect(scaleAt(ofMatrix([3, 0, 1, 0, 3, 2, 0, 0, 1]), { x: 9, y: 4 })).toBeCloseTo(3, 9)
    expect(scaleAt(square([at([0, 0]), at([4, 0]), at([4, 9]), at([0, 9])]), { x: 0.5, y: 0.5 })).toBeCloseTo(6, 9)
  })
})
