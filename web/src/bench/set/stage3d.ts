import { add, placeAt, seenAt, turned, type Optics, type View } from './optics'
import type { Space } from './queries'

/** What the space view shows. */
export interface Seen {
  space: Space
  frame: number
  chosen: number[]
  card: string | null
  picture?: ImageBitmap
  optics: Optics
  /** A card was pressed that is not the chosen one. */
  onChoose(track: string): void
  /** The chosen card was dragged so far. */
  onMove(track: string, by: number[]): void
}

/** Draws the set. */
export interface Stage {
  show(seen: Seen): void
  /** Turns back to where all of it is seen. */
  reset(): void
  close(): void
  /** Drawn from above, without WebGL2. */
  readonly plain: boolean
}

/** A stage on a canvas: by WebGL2, or a plan from above where there is none. */
export async function openSpace(canvas: HTMLCanvasElement): Promise<Stage> {
  const gl = canvas.getContext('webgl2', { antialias: true })
  if (!gl) return openPlan(canvas)
  const [three, { OrbitControls }] = await Promise.all([
    import('three'),
    import('three/examples/jsm/controls/OrbitControls.js'),
  ])
  const renderer = new three.WebGLRenderer({ canvas, context: gl, antialias: true })
  renderer.setPixelRatio(Math.min(2, devicePixelRatio || 1))
  const scene = new three.Scene()
  scene.background = new three.Color('#171816')
  const eye = new three.PerspectiveCamera(40, 4 / 3, 0.01, 1e5)
  const controls = new OrbitControls(eye, canvas)
  const all = new three.Group()
  scene.add(all)
  let last: Seen | null = null
  let placed = ''
  let due = 0
  const draw = () => {
    due ||= requestAnimationFrame(() => {
      due = 0
      const [w, h] = [canvas.clientWidth, canvas.clientHeight]
      if (!w || !h) return
      renderer.setSize(w, h, false)
      eye.aspect = w / h
      eye.updateProjectionMatrix()
      renderer.render(scene, eye)
    })
  }
  controls.addEventListener('change', draw)
  // The chosen card is dragged, straight across the view; another one is chosen; beside them the view turns.
  const ray = new three.Raycaster()
  const vector = (p: number[]) => new three.Vector3(...p)
  const aim = (e: PointerEvent) => {
    const box = canvas.getBoundingClientRect()
    const [x, y] = [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height]
    ray.setFromCamera(new three.Vector2(2 * x - 1, 1 - 2 * y), eye)
    return ray.ray
  }
  const struck = (e: PointerEvent, space: Space) => {
    const line = aim(e)
    let nearest: { track: string; at: InstanceType<typeof three.Vector3> } | null = null
    for (const { track, corners } of space.cards) {
      const [a, b, c, d] = corners.map(vector)
      const at = new three.Vector3()
      if (!line.intersectTriangle(a, b, c, false, at) && !line.intersectTriangle(a, c, d, false, at)) continue
      if (!nearest || at.distanceTo(eye.position) < nearest.at.distanceTo(eye.position)) nearest = { track, at }
    }
    return nearest
  }
  const press = (e: PointerEvent) => {
    const held = last
    const on = held && e.button === 0 && !e.shiftKey ? struck(e, held.space) : null
    if (!held || !on) return
    if (on.track !== held.card) return held.onChoose(on.track)
    e.stopImmediatePropagation()
    canvas.setPointerCapture(e.pointerId)
    const across = new three.Plane().setFromNormalAndCoplanarPoint(eye.getWorldDirection(new three.Vector3()), on.at)
    let by: number[] | null = null
    const pull = (m: PointerEvent) => {
      const to = aim(m).intersectPlane(across, new three.Vector3())
      if (!to) return
      const far = (by = to.sub(on.at).toArray())
      const cards = held.space.cards.map((c) =>
        c.track === on.track ? { ...c, corners: c.corners.map((p) => add(p, far)) } : c,
      )
      show({ ...held, space: { ...held.space, cards } })
    }
    const end = () => {
      canvas.removeEventListener('pointermove', pull)
      for (const over of ['pointerup', 'pointercancel']) canvas.removeEventListener(over, end)
      if (by) held.onMove(on.track, by)
    }
    canvas.addEventListener('pointermove', pull)
    for (const over of ['pointerup', 'pointercancel']) canvas.addEventListener(over, end)
  }
  canvas.addEventListener('pointerdown', press, true)
  const observer = new ResizeObserver(draw)
  observer.observe(canvas)
  const clear = () => {
    all.traverse((o) => {
      if ('geometry' in o) (o.geometry as { dispose(): void }).dispose()
      if ('material' in o) {
        const m = o.material as { map?: { dispose(): void } | null; dispose(): void }
        m.map?.dispose()
        m.dispose()
      }
    })
    all.clear()
  }
  const reset = () => {
    if (!last) return
    const { middle, size } = extent(last.space)
    controls.target.set(...middle)
    const first = last.space.views[0]
    // From behind the camera, above and to the side.
    const back = first ? turned(first.turn, [0.5, 0.55, 1]) : [1, 1, 1]
    eye.position.set(
      middle[0] + back[0] * size * 1.5,
      middle[1] + back[1] * size * 1.5,
      middle[2] + back[2] * size * 1.5,
    )
    eye.near = size / 1000
    eye.far = size * 100
    controls.update()
    draw()
  }
  const line = (points: number[][], colour: string, closed = false) => {
    const g = new three.BufferGeometry().setFromPoints(points.map((p) => new three.Vector3(...p)))
    const m = new three.LineBasicMaterial({ color: colour })
    all.add(closed ? new three.LineLoop(g, m) : new three.Line(g, m))
  }
  const show = (seen: Seen) => {
    last = seen
    clear()
    const { space } = seen
    const { size } = extent(space)
    const floor = new three.GridHelper(size * 2, 20, '#3c3f39', '#2a2c28')
    all.add(floor)
    const dots = (points: number[][], colour: string, px: number) => {
      if (!points.length) return
      const g = new three.BufferGeometry()
      g.setAttribute('position', new three.Float32BufferAttribute(points.flat(), 3))
      all.add(new three.Points(g, new three.PointsMaterial({ color: colour, size: px, sizeAttenuation: false })))
    }
    const picked = new Set(seen.chosen)
    dots(
      space.points.filter((p, i) => !p.off && !picked.has(i)).map((p) => p.at),
      '#d9dbd4',
      2,
    )
    dots(
      space.points.filter((_, i) => picked.has(i)).map((p) => p.at),
      '#7fb069',
      6,
    )
    line(
      space.views.map((v) => v.eye),
      '#7fb069',
    )
    const view = space.views.find((v) => v.frame === seen.frame)
    if (view) {
      const d = size / 8
      const [w, h] = [space.width, space.height]
      const frame = [
        [0, 0],
        [w, 0],
        [w, h],
        [0, h],
      ].map(([x, y]) => placeAt(x, y, d, view, seen.optics))
      line(frame, '#ffffff', true)
      for (const c of frame) line([view.eye, c], '#ffffff')
    }
    for (const c of space.cards) {
      if (view && seen.picture) all.add(projected(c.corners, view, seen.picture, space, seen.optics))
      line(c.corners, c.track === seen.card ? '#7fb069' : '#ffffff', true)
    }
    const key = `${space.views.length}:${space.points.length}:${space.views[0]?.eye.join()}`
    if (placed !== key) {
      placed = key
      reset()
    }
    draw()
  }
  /** A card with what the camera sees there laid on it. */
  const projected = (corners: number[][], view: View, picture: ImageBitmap, space: Space, optics: Optics) => {
    const n = 40
    const [at, uv, index]: [number[], number[], number[]] = [[], [], []]
    const shown: boolean[] = []
    for (let j = 0; j <= n; j++)
      for (let i = 0; i <= n; i++) {
        const [u, v] = [i / n, j / n]
        const p = corners[0].map((a, k) => a + (corners[1][k] - a) * u + (corners[3][k] - a) * v)
        at.push(...p)
        const q = seenAt(p, view, optics)
        const [s, t] = q ? [q.x / space.width, 1 - q.y / space.height] : [-1, -1]
        uv.push(s, t)
        shown.push(s >= 0 && s <= 1 && t >= 0 && t <= 1)
      }
    // What the picture does not show stays empty.
    for (let j = 0; j < n; j++)
      for (let i = 0; i < n; i++) {
        const a = j * (n + 1) + i
        const cell = [a, a + 1, a + n + 1, a + n + 2]
        if (cell.every((k) => shown[k])) index.push(a, a + n + 1, a + 1, a + 1, a + n + 1, a + n + 2)
      }
    const g = new three.BufferGeometry()
    g.setAttribute('position', new three.Float32BufferAttribute(at, 3))
    g.setAttribute('uv', new three.Float32BufferAttribute(uv, 2))
    g.setIndex(index)
    const texture = new three.Texture(picture)
    texture.flipY = false
    texture.repeat.set(1, -1)
    texture.offset.set(0, 1)
    texture.colorSpace = three.SRGBColorSpace
    texture.needsUpdate = true
    return new three.Mesh(g, new three.MeshBasicMaterial({ map: texture, side: three.DoubleSide }))
  }
  return {
    plain: false,
    show,
    reset,
    close: () => {
      canvas.removeEventListener('pointerdown', press, true)
      observer.disconnect()
      cancelAnimationFrame(due)
      controls.dispose()
      clear()
      renderer.dispose()
    },
  }
}

/** The same from above, drawn by lines. */
function openPlan(canvas: HTMLCanvasElement): Stage {
  const c = canvas.getContext('2d')!
  const show = ({ space, frame, chosen, card }: Seen) => {
    const ratio = devicePixelRatio || 1
    canvas.width = canvas.clientWidth * ratio
    canvas.height = canvas.clientHeight * ratio
    const { middle, size } = extent(space)
    const k = Math.min(canvas.width, canvas.height) / (2.4 * size)
    const to = (p: number[]): [number, number] => [
      canvas.width / 2 + (p[0] - middle[0]) * k,
      canvas.height / 2 + (p[2] - middle[2]) * k,
    ]
    c.fillStyle = '#171816'
    c.fillRect(0, 0, canvas.width, canvas.height)
    const picked = new Set(chosen)
    space.points.forEach((p, i) => {
      if (p.off) return
      const [x, y] = to(p.at)
      c.fillStyle = picked.has(i) ? '#7fb069' : '#d9dbd4'
      c.fillRect(x - ratio, y - ratio, 2 * ratio, 2 * ratio)
    })
    const line = (points: number[][], colour: string, closed: boolean) => {
      c.beginPath()
      points.forEach((p) => c.lineTo(...to(p)))
      if (closed) c.closePath()
      c.strokeStyle = colour
      c.lineWidth = 1.5 * ratio
      c.stroke()
    }
    line(
      space.views.map((v) => v.eye),
      '#7fb069',
      false,
    )
    const view = space.views.find((v) => v.frame === frame)
    if (view) line([view.eye, add(view.eye, turned(view.turn, [0, 0, -size / 4]))], '#ffffff', false)
    for (const x of space.cards) line(x.corners, x.track === card ? '#7fb069' : '#ffffff', true)
  }
  return { plain: true, show, reset: () => undefined, close: () => undefined }
}

/** Where most of it is, and how far it reaches. */
function extent(space: Space): { middle: [number, number, number]; size: number } {
  const at = [
    ...space.points.filter((p) => !p.off).map((p) => p.at),
    ...space.views.map((v) => v.eye),
    ...space.cards.flatMap((c) => c.corners),
  ]
  if (!at.length) return { middle: [0, 0, 0], size: 1 }
  const of = (k: number, share: number) =>
    at.map((p) => p[k]).sort((a, b) => a - b)[Math.floor((at.length - 1) * share)]
  const middle = [0, 1, 2].map((k) => (of(k, 0.05) + of(k, 0.95)) / 2) as [number, number, number]
  const size = Math.max(1e-6, ...[0, 1, 2].map((k) => of(k, 0.95) - of(k, 0.05)))
  return { middle, size }
}
