import { useEffect, useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Knot, Outline, Removal } from '../api/client'
import { newId, useEdit } from '../api/treatment'
import type { BenchProps, Placement } from './props'
import { on } from './edits'
import type { Point } from './matrix'
import { bench, useBench } from './state'

type Props = BenchProps & { removal: Removal; placement: Placement }

const vec = (p: Point): [number, number] => [Math.round(p.x * 100) / 100, Math.round(p.y * 100) / 100]
const point = (v: number[]): Point => ({ x: v[0], y: v[1] })
const plus = (a: Point, b: Point): Point => ({ x: a.x + b.x, y: a.y + b.y })
const minus = (a: Point, b: Point): Point => ({ x: a.x - b.x, y: a.y - b.y })
const zero = { x: 0, y: 0 }

/** Where a pointer is on the reference frame. */
function at(e: { clientX: number; clientY: number }, svg: Element, placement: Placement): Point {
  const box = svg.getBoundingClientRect()
  return placement.fromRoom({ x: e.clientX - box.left, y: e.clientY - box.top })
}

/** Follows a pressed pointer until it is let go. */
export function drag(e: ReactPointerEvent, move: (e: PointerEvent) => void, end: (moved: boolean) => void) {
  e.stopPropagation()
  const start = { x: e.clientX, y: e.clientY }
  let moved = false
  const onMove = (m: PointerEvent) => {
    moved ||= Math.hypot(m.clientX - start.x, m.clientY - start.y) > 2
    if (moved) move(m)
  }
  const onUp = () => {
    removeEventListener('pointermove', onMove)
    removeEventListener('pointerup', onUp)
    removeEventListener('pointercancel', onUp)
    end(moved)
  }
  addEventListener('pointermove', onMove)
  addEventListener('pointerup', onUp)
  addEventListener('pointercancel', onUp)
}

/** What can be taken hold of on the picture: the outlines in Mark, the region in Follow. */
export function Handles(props: Props) {
  const { stage, tool } = useBench()
  if (tool === 'outline' && stage === 'mark') return <DrawOutline {...props} />
  if (tool === 'region' && stage === 'follow') return <DrawRegion {...props} />
  return (
    <svg className="pointer-events-none absolute inset-0 h-full w-full" data-testid="handles">
      {stage === 'follow' ? <Region {...props} /> : props.removal.mark.outlines.map((o) => <OutlineHandles key={o.id} {...props} outline={o} editable={stage === 'mark'} />)}
    </svg>
  )
}

/** A line that shows on white and on black: a light core in a dark casing. */
export function Line({ d, on, dashed, ...rest }: { d: string; on?: boolean; dashed?: boolean } & React.SVGProps<SVGPathElement>) {
  return (
    <g fill="none" strokeLinejoin="round">
      <path d={d} stroke="#000" strokeOpacity="0.7" strokeWidth="4" />
      <path d={d} stroke={on ? 'var(--color-fern)' : '#fff'} strokeWidth="1.6" strokeDasharray={dashed ? '5 4' : undefined} />
      {rest.onDoubleClick || rest.onPointerDown ? <path d={d} stroke="transparent" strokeWidth="12" className="pointer-events-auto" {...rest} /> : null}
    </g>
  )
}

function Grip({ p, on, small, label, ...rest }: { p: Point; on?: boolean; small?: boolean; label: string } & Omit<React.SVGProps<SVGGElement>, 'p'>) {
  const r = small ? 3.5 : 5
  return (
    <g className="pointer-events-auto cursor-move" transform={`translate(${p.x} ${p.y})`} aria-label={label} {...rest}>
      <circle r="11" fill="transparent" />
      <circle r={r} fill={on ? 'var(--color-fern)' : '#fff'} stroke="#000" strokeWidth="1.8" />
    </g>
  )
}

const inOf = (k: Knot) => (k.in ? point(k.in) : zero)
const outOf = (k: Knot) => (k.out ? point(k.out) : zero)

function pathOf(knots: Knot[], toRoom: (p: Point) => Point, closed = true) {
  if (knots.length === 0) return ''
  const s = (p: Point) => {
    const q = toRoom(p)
    return `${q.x.toFixed(2)} ${q.y.toFixed(2)}`
  }
  let d = `M${s(point(knots[0].at))}`
  for (let i = 0; i < knots.length - (closed ? 0 : 1); i++) {
    const a = knots[i]
    const b = knots[(i + 1) % knots.length]
    d += a.out || b.in ? `C${s(plus(point(a.at), outOf(a)))} ${s(plus(point(b.at), inOf(b)))} ${s(point(b.at))}` : `L${s(point(b.at))}`
  }
  return closed ? d + 'Z' : d
}

function OutlineHandles({ shot, removal, outline, placement, editable }: Props & { outline: Outline; editable: boolean }) {
  const { edit } = useEdit(shot.id)
  const selected = useBench((s) => s.outline === outline.id)
  const knot = useBench((s) => (s.outline === outline.id ? s.knot : null))
  const [draft, setDraft] = useState<Knot[] | null>(null)
  useEffect(() => setDraft(null), [outline])
  const knots = draft ?? outline.points
  const save = (label: string, points: Knot[]) =>
    void edit(label, on(removal.id, (d) => {
      const o = d.mark.outlines.find((x) => x.id === outline.id)
      if (o) o.points = points
    }))
  const svg = (e: { target: EventTarget | null }) => (e.target as Element).closest('svg')!
  const move = (e: ReactPointerEvent, label: string, change: (k: Knot[], delta: Point, p: Point) => void) => {
    const root = svg(e)
    const from = at(e, root, placement)
    let last: Knot[] | null = null
    drag(
      e,
      (m) => {
        last = structuredClone(outline.points)
        const p = at(m, root, placement)
        change(last, minus(p, from), p)
        setDraft(last)
      },
      (moved) => moved && last && save(label, last),
    )
  }
  const select = (k: number | null) => bench.set({ outline: outline.id, knot: k })

  const d = pathOf(knots, placement.toRoom)
  if (!editable) return <Line d={d} dashed={!placement.placed} />
  return (
    <g>
      <Line
        d={d}
        on={selected}
        dashed={!placement.placed}
        className="pointer-events-auto cursor-move"
        onPointerDown={(e) => {
          if (e.button !== 0) return
          select(null)
          move(e, `Move ${outline.name}`, (k, delta) => k.forEach((x) => (x.at = vec(plus(point(x.at), delta)))))
        }}
        onDoubleClick={(e) => {
          const added = insertKnot(outline.points, at(e, svg(e), placement))
          select(added.index)
          save('Add a point', added.knots)
        }}
      />
      {selected &&
        knots.map((k, i) => {
          const here = placement.toRoom(point(k.at))
          const arms = knot === i ? ([['in', k.in], ['out', k.out]] as const).filter(([, v]) => v) : []
          return (
            <g key={i}>
              {arms.map(([side, v]) => {
                const end = placement.toRoom(plus(point(k.at), point(v!)))
                return (
                  <g key={side}>
                    <Line d={`M${here.x} ${here.y}L${end.x} ${end.y}`} />
                    <Grip
                      small
                      p={end}
                      label={`Handle ${side} of point ${i + 1}`}
                      onPointerDown={(e) =>
                        move(e, 'Bend the outline', (ks, _, p) => {
                          const arm = minus(p, point(ks[i].at))
                          const other = side === 'in' ? 'out' : 'in'
                          ks[i][side] = vec(arm)
                          // A smooth point keeps both handles on one line; Alt breaks it.
                          if (ks[i][other] && !e.altKey) {
                            const length = Math.hypot(...(ks[i][other] as [number, number]))
                            const k2 = -length / (Math.hypot(arm.x, arm.y) || 1)
                            ks[i][other] = vec({ x: arm.x * k2, y: arm.y * k2 })
                          }
                        })
                      }
                    />
                  </g>
                )
              })}
              <Grip
                p={here}
                on={knot === i}
                label={`Point ${i + 1} of ${outline.name}`}
                onPointerDown={(e) => {
                  if (e.button !== 0) return
                  select(i)
                  move(e, 'Move a point', (ks, delta) => (ks[i].at = vec(plus(point(ks[i].at), delta))))
                }}
                onDoubleClick={(e) => {
                  e.stopPropagation()
                  const next = structuredClone(outline.points)
                  toggleSmooth(next, i)
                  save(next[i].in ? 'Make a point smooth' : 'Make a point sharp', next)
                }}
              />
            </g>
          )
        })}
      <text x={placement.toRoom(point(knots[0].at)).x + 9} y={placement.toRoom(point(knots[0].at)).y - 9} className="text-[12px]" fill="#fff" stroke="#000" strokeWidth="3" paintOrder="stroke">
        {outline.name}
      </text>
    </g>
  )
}

/** Gives a sharp point handles a third of the way along its neighbours' direction, or takes them away. */
function toggleSmooth(knots: Knot[], i: number) {
  const k = knots[i]
  if (k.in || k.out) {
    delete k.in
    delete k.out
    return
  }
  const before = point(knots[(i + knots.length - 1) % knots.length].at)
  const after = point(knots[(i + 1) % knots.length].at)
  const along = minus(after, before)
  k.out = vec({ x: along.x / 6, y: along.y / 6 })
  k.in = vec({ x: -along.x / 6, y: -along.y / 6 })
}

/** Splits the nearest segment where the pointer is, without changing the curve (de Casteljau). */
function insertKnot(knots: Knot[], p: Point) {
  const lerp = (a: Point, b: Point, t: number) => ({ x: a.x + (b.x - a.x) * t, y: a.y + (b.y - a.y) * t })
  let best = { d: Infinity, i: 0, t: 0.5 }
  const cubic = (i: number) => {
    const a = knots[i]
    const b = knots[(i + 1) % knots.length]
    return [point(a.at), plus(point(a.at), outOf(a)), plus(point(b.at), inOf(b)), point(b.at)]
  }
  const split = (c: Point[], t: number) => {
    const [ab, bc, cd] = [lerp(c[0], c[1], t), lerp(c[1], c[2], t), lerp(c[2], c[3], t)]
    const [abc, bcd] = [lerp(ab, bc, t), lerp(bc, cd, t)]
    return { ab, abc, mid: lerp(abc, bcd, t), bcd, cd }
  }
  knots.forEach((_, i) => {
    for (let k = 1; k < 40; k++) {
      const m = split(cubic(i), k / 40).mid
      const d = Math.hypot(m.x - p.x, m.y - p.y)
      if (d < best.d) best = { d, i, t: k / 40 }
    }
  })
  const next = structuredClone(knots)
  const a = next[best.i]
  const b = next[(best.i + 1) % next.length]
  const straight = !a.out && !b.in
  const s = split(cubic(best.i), best.t)
  const added: Knot = { at: vec(s.mid) }
  if (!straight) {
    a.out = vec(minus(s.ab, point(a.at)))
    b.in = vec(minus(s.cd, point(b.at)))
    added.in = vec(minus(s.abc, s.mid))
    added.out = vec(minus(s.bcd, s.mid))
  }
  next.splice(best.i + 1, 0, added)
  return { knots: next, index: best.i + 1 }
}

/** Drawing a new outline: clicks for corners, drags for curves. */
function DrawOutline({ shot, removal, placement }: Props) {
  const { edit } = useEdit(shot.id)
  const [knots, setKnots] = useState<Knot[]>([])
  const [cursor, setCursor] = useState<Point | null>(null)
  const close = () => {
    if (knots.length < 3) return
    const id = newId()
    void edit('Draw an outline', on(removal.id, (d) => d.mark.outlines.push({ id, name: `Outline ${d.mark.outlines.length + 1}`, points: knots, feather: 2 })))
    bench.set({ tool: 'look', outline: id, knot: null })
  }
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if ((e.target as HTMLElement).closest('input, [role=dialog]')) return
      if (e.key === 'Enter') close()
      if (e.key === 'Backspace' || e.key === 'Delete') setKnots((k) => k.slice(0, -1))
    }
    addEventListener('keydown', key)
    return () => removeEventListener('keydown', key)
  })
  const down = (e: ReactPointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return
    const root = e.currentTarget
    const p = at(e, root, placement)
    if (knots.length >= 3) {
      const first = placement.toRoom(point(knots[0].at))
      const here = placement.toRoom(p)
      if (Math.hypot(first.x - here.x, first.y - here.y) < 10) {
        e.stopPropagation()
        close()
        return
      }
    }
    const index = knots.length
    setKnots([...knots, { at: vec(p) }])
    drag(
      e,
      (m) => {
        const arm = minus(at(m, root, placement), p)
        setKnots((k) => k.map((x, i) => (i === index ? { at: x.at, out: vec(arm), in: vec({ x: -arm.x, y: -arm.y }) } : x)))
      },
      () => undefined,
    )
  }
  const line = cursor && knots.length ? [...knots, { at: vec(cursor) }] : knots
  return (
    <svg className="absolute inset-0 h-full w-full cursor-crosshair" data-testid="draw" onPointerDown={down} onPointerMove={(e) => setCursor(at(e, e.currentTarget, placement))}>
      {removal.mark.outlines.map((o) => <Line key={o.id} d={pathOf(o.points, placement.toRoom)} />)}
      <Line d={pathOf(line, placement.toRoom, false)} on />
      {knots.map((k, i) => (
        <g key={i} className="pointer-events-none"><Grip p={placement.toRoom(point(k.at))} on={i === 0} label={`Point ${i + 1}`} /></g>
      ))}
    </svg>
  )
}

/** Drawing a region: a box dragged over the surface. */
function DrawRegion({ shot, removal, placement }: Props) {
  const { edit } = useEdit(shot.id)
  const [box, setBox] = useState<[Point, Point] | null>(null)
  const corners = ([a, b]: [Point, Point]) => [{ x: a.x, y: a.y }, { x: b.x, y: a.y }, { x: b.x, y: b.y }, { x: a.x, y: b.y }]
  const down = (e: ReactPointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return
    const root = e.currentTarget
    const p = at(e, root, placement)
    let last: [Point, Point] | null = null
    drag(
      e,
      (m) => setBox((last = [p, at(m, root, placement)])),
      () => {
        setBox(null)
        if (!last || Math.abs(last[0].x - last[1].x) < 8 || Math.abs(last[0].y - last[1].y) < 8) return
        const sorted: [Point, Point] = [
          { x: Math.min(last[0].x, last[1].x), y: Math.min(last[0].y, last[1].y) },
          { x: Math.max(last[0].x, last[1].x), y: Math.max(last[0].y, last[1].y) },
        ]
        void edit('Draw a region', on(removal.id, (d) => { d.follow.region = corners(sorted).map(vec) }))
        bench.set({ tool: 'look' })
      },
    )
  }
  const shape = box ? corners(box).map((p) => ({ at: vec(p) })) : []
  return (
    <svg className="absolute inset-0 h-full w-full cursor-crosshair" data-testid="draw" onPointerDown={down}>
      <Line d={pathOf(shape, placement.toRoom)} on />
    </svg>
  )
}

/** The region with its corners, carried to the shown frame. */
function Region({ shot, removal, placement }: Props) {
  const { edit } = useEdit(shot.id)
  const [draft, setDraft] = useState<number[][] | null>(null)
  useEffect(() => setDraft(null), [removal.follow.region])
  const corners = draft ?? removal.follow.region
  if (corners.length < 3) return null
  const move = (e: ReactPointerEvent, change: (c: number[][], delta: Point) => number[][]) => {
    const root = (e.target as Element).closest('svg')!
    const from = at(e, root, placement)
    let last: number[][] | null = null
    drag(
      e,
      (m) => setDraft((last = change(structuredClone(removal.follow.region), minus(at(m, root, placement), from)))),
      (moved) => moved && last && void edit('Change the region', on(removal.id, (d) => { d.follow.region = last! })),
    )
  }
  return (
    <g>
      <Line
        d={pathOf(corners.map((c) => ({ at: c })), placement.toRoom)}
        on
        dashed={!placement.placed}
        className="pointer-events-auto cursor-move"
        onPointerDown={(e) => move(e, (c, delta) => c.map((v) => vec(plus(point(v), delta))))}
      />
      {corners.map((c, i) => (
        <Grip
          key={i}
          p={placement.toRoom(point(c))}
          label={`Corner ${i + 1} of the region`}
          onPointerDown={(e) => move(e, (cs, delta) => cs.map((v, k) => (k === i ? vec(plus(point(v), delta)) : v)))}
        />
      ))}
    </g>
  )
}
