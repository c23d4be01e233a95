import { useEffect, useRef, useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Knot, Pose, Shape } from '../../api/client'
import { useEdit } from '../../api/treatment'
import {
  boundsOf,
  distance,
  inOf,
  insertKnot,
  middleOf,
  minus,
  nearest,
  outOf,
  pathOf,
  plus,
  point,
  toggleSmooth,
  vec,
} from './curve'
import { everywhere, onShape, putKey, setPoints, type Owner } from '../edits'
import { placed, unplaced, usePoses } from './poses'
import { drag, Grip, Line, Words } from './lines'
import { identity, type Mapping } from '../mapping'
import { apply, multiply, type Matrix, type Point } from '../matrix'
import { carried, drawnIn, pointerAt, within, type BenchProps, type Placement } from '../props'
import { useLens } from '../set/queries'
import { bench, useBench } from '../state'

interface Props extends BenchProps {
  owner: Owner
  shapes: Shape[]
  /** The track that shapes ride on if they name none. */
  own: string | undefined
  /** Of the shown frame's own coordinates. */
  placement: Placement
  /** The frame that is seen. */
  seen: number
  editable: boolean
}

/** The shapes of a removal or a track on the picture. */
export function Shapes(props: Props) {
  const { shot, revision, owner, shapes, seen } = props
  const { pose } = usePoses(shot.id, revision, owner, shapes, seen)
  return (
    <>
      {shapes.map((s) => {
        const p = pose(s)
        const there = !s.off && (!s.range || (seen >= s.range.first && seen <= s.range.last))
        return p && there ? <ShapeHandles key={s.id} {...props} shape={s} pose={p} /> : null
      })}
    </>
  )
}

function ShapeHandles({
  shot,
  revision,
  motions,
  owner,
  shape,
  own,
  placement,
  seen,
  pose,
  editable,
}: Props & { shape: Shape; pose: Pose }) {
  const { edit } = useEdit(shot.id)
  const bowed = useLens(shot.id, revision)
  const lens = shape.straight ? bowed : null
  const selected = useBench((s) => s.outline === shape.id)
  const chosen = useBench((s) => (s.outline === shape.id ? s.knots : none))
  const [draft, setDraft] = useState<Knot[] | null>(null)
  const [whole, setWhole] = useState<Matrix | null>(null)
  // What was dragged stays until the shape is known to lie there.
  const told = JSON.stringify(pose)
  const dragging = useRef(false)
  useEffect(() => {
    if (dragging.current) return
    setDraft(null)
    setWhole(null)
  }, [told, seen])

  const closed = shape.kind === 'outline'
  const ride = pose.shifts ? identity : motions.between(shape.ride || own || '', shape.home, seen)
  const here = within(placement, ride ?? (seen === shape.home ? identity : null))
  const at = placed(pose)
  // What is shown: the next drag begins from there, also before the server has confirmed the last one.
  const knots = (draft ?? at).map((k) => (whole ? moved(k, whole) : k))
  const save = (label: string, next: Knot[]) =>
    void edit(
      label,
      onShape(owner, shape.id, (s) => setPoints(s, seen, unplaced(pose, next))),
    )
  const root = (e: { target: EventTarget | null }) => (e.target as Element).closest('svg')!
  const colour = shape.colour

  const move = (e: ReactPointerEvent, label: string, change: (k: Knot[], delta: Point, p: Point) => void) => {
    const svg = root(e)
    const from = pointerAt(e, svg, here)
    let last: Knot[] | null = null
    dragging.current = true
    drag(
      e,
      (m) => {
        last = structuredClone(knots)
        const p = pointerAt(m, svg, here)
        change(last, minus(p, from), p)
        setWhole(null)
        setDraft(last)
      },
      (did) => {
        dragging.current = false
        if (did && last) save(label, last)
      },
    )
  }
  /** Moves, turns or scales the whole shape: its placement if that is keyed, else its points. */
  const transform = (e: ReactPointerEvent, label: string, by: (from: Point, to: Point) => Matrix) => {
    const svg = root(e)
    const from = pointerAt(e, svg, here)
    let last: Matrix | null = null
    const start = knots
    dragging.current = true
    setDraft(start)
    setWhole(null)
    drag(
      e,
      (m) => setWhole((last = by(from, pointerAt(m, svg, here)))),
      (did) => {
        dragging.current = false
        if (!did || !last) {
          setDraft(null)
          return
        }
        const t = last
        if (shape.placement?.length)
          void edit(
            label,
            onShape(owner, shape.id, (s) => putKey(s.placement!, placementKey(s, seen, multiply(t, pose.placement)))),
          )
        else
          save(
            label,
            start.map((k) => moved(k, t)),
          )
      },
    )
  }

  // A box drawn with Shift selects the points inside it.
  const box = useBench((s) => (selected ? s.box : null))
  useEffect(() => {
    if (!box || !editable) return
    const within = (a: number, b: number, v: number) => v >= Math.min(a, b) && v <= Math.max(a, b)
    bench.set({
      knots: knots.flatMap((k, i) => {
        const p = here.toRoom(point(k.at))
        return within(box[0].x, box[1].x, p.x) && within(box[0].y, box[1].y, p.y) ? [i] : []
      }),
    })
  }, [box])

  const [line, lineHere] = drawnIn(knots, here, lens)
  const d = pathOf(line, lineHere, closed)
  if (!editable) return <Line d={d} dashed={!here.placed} colour={colour} />
  const toggle = (i: number, more: boolean) =>
    bench.set({
      outline: shape.id,
      key: null,
      knots: more
        ? chosen.includes(i)
          ? chosen.filter((k) => k !== i)
          : [...chosen, i]
        : chosen.includes(i)
          ? chosen
          : [i],
    })
  return (
    <g>
      {shape.kind === 'strand' && <Sides knots={knots} here={here} lens={lens} />}
      <Line
        d={d}
        on={selected}
        colour={colour}
        dashed={!here.placed}
        className="pointer-events-auto cursor-move"
        onPointerDown={(e) => {
          if (e.button !== 0) return
          bench.set({ outline: shape.id, knots: [], key: null })
          transform(e, `Move ${shape.name}`, (from, to) => [1, 0, to.x - from.x, 0, 1, to.y - from.y, 0, 0, 1])
        }}
        onDoubleClick={(e) => {
          const where = nearest(drawnIn(at, here, lens)[0], pointerAt(e, root(e), lineHere), closed)
          const added = (points: Knot[]) =>
            lens
              ? insertKnot(drawnIn(points, here, lens)[0], where).map((k) => carried(k, lens))
              : insertKnot(points, where)
          void edit(
            'Add a point',
            onShape(owner, shape.id, (s) => everywhere(s, added)),
          )
          bench.set({ outline: shape.id, knots: [where.i + 1] })
        }}
      />
      {selected && chosen.length === 0 && <Frame knots={knots} here={here} name={shape.name} transform={transform} />}
      {selected &&
        knots.map((k, i) => {
          const spot = here.toRoom(point(k.at))
          const arms =
            chosen.length === 1 && chosen[0] === i
              ? (
                  [
                    ['in', k.in],
                    ['out', k.out],
                  ] as const
                ).filter(([, v]) => v)
              : []
          return (
            <g key={i}>
              {arms.map(([side, v]) => {
                const end = here.toRoom(plus(point(k.at), point(v!)))
                return (
                  <g key={side}>
                    <Line d={`M${spot.x} ${spot.y}L${end.x} ${end.y}`} />
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
              {shape.kind === 'strand' && chosen.length === 1 && chosen[0] === i && (
                <WidthGrip knots={knots} i={i} here={here} move={move} />
              )}
              <Grip
                p={spot}
                on={chosen.includes(i)}
                square={!k.in && !k.out}
                label={`Point ${i + 1} of ${shape.name}`}
                onPointerDown={(e) => {
                  if (e.button !== 0) return
                  toggle(i, e.shiftKey)
                  const group = chosen.includes(i) || e.shiftKey ? [...new Set([...chosen, i])] : [i]
                  move(e, group.length > 1 ? 'Move points' : 'Move a point', (ks, delta) =>
                    group.forEach((g) => (ks[g].at = vec(plus(point(ks[g].at), delta)))),
                  )
                }}
                onDoubleClick={(e) => {
                  e.stopPropagation()
                  const smooth = !(k.in || k.out)
                  void edit(
                    smooth ? 'Make a point smooth' : 'Make a point sharp',
                    onShape(owner, shape.id, (s) =>
                      everywhere(s, (points) => {
                        const next = structuredClone(points)
                        if (!(next[i].in || next[i].out) === smooth) toggleSmooth(next, i, closed)
                        return next
                      }),
                    ),
                  )
                }}
              />
            </g>
          )
        })}
      <Words p={here.toRoom(point(knots[0].at))}>{shape.name}</Words>
    </g>
  )
}

const none: number[] = []

function moved(k: Knot, m: Matrix): Knot {
  const at = apply(m, point(k.at))
  const arm = (v?: number[]) => {
    if (!v) return undefined
    return vec(minus(apply(m, plus(point(k.at), point(v))), at))
  }
  const scale = Math.sqrt(Math.abs(m[0] * m[4] - m[1] * m[3]))
  return { ...k, at: [at.x, at.y], in: arm(k.in), out: arm(k.out), ...(k.width ? { width: k.width * scale } : {}) }
}

/** The placement key that a matrix stands for, around the shape's middle. */
export function placementKey(s: Shape, frame: number, m: Matrix) {
  const c = middleOf(s)
  const to = apply(m, c)
  const sx = Math.hypot(m[0], m[3])
  const old = s.placement?.find((k) => k.frame === frame)
  return {
    frame,
    ease: old?.ease ?? ('eased' as const),
    offset: vec(minus(to, c)),
    turn: Math.round((Math.atan2(m[3], m[0]) * 180 * 1000) / Math.PI) / 1000,
    scale: [Math.round(sx * 1e5) / 1e5, Math.round(((m[0] * m[4] - m[1] * m[3]) / sx) * 1e5) / 1e5],
  }
}

/** The frame around a whole shape: its corners scale, the knob above turns. */
function Frame({
  knots,
  here,
  name,
  transform,
}: {
  knots: Knot[]
  here: Placement
  name: string
  transform: (e: ReactPointerEvent, label: string, by: (from: Point, to: Point) => Matrix) => void
}) {
  const b = boundsOf(knots)
  const c = { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 }
  const grow = 14 / here.scale(c)
  const corners = [
    { x: b.left - grow, y: b.top - grow },
    { x: b.right + grow, y: b.top - grow },
    { x: b.right + grow, y: b.bottom + grow },
    { x: b.left - grow, y: b.bottom + grow },
  ]
  const top = here.toRoom({ x: c.x, y: b.top - grow })
  const knob = here.toRoom({ x: c.x, y: b.top - 2.6 * grow })
  return (
    <g>
      <path
        d={
          corners
            .map((p, i) => {
              const q = here.toRoom(p)
              return `${i ? 'L' : 'M'}${q.x} ${q.y}`
            })
            .join('') + `ZM${top.x} ${top.y}L${knob.x} ${knob.y}`
        }
        fill="none"
        stroke="#000"
        strokeOpacity="0.5"
        strokeWidth="2.5"
      />
      <path
        d={
          corners
            .map((p, i) => {
              const q = here.toRoom(p)
              return `${i ? 'L' : 'M'}${q.x} ${q.y}`
            })
            .join('') + `ZM${top.x} ${top.y}L${knob.x} ${knob.y}`
        }
        fill="none"
        stroke="#fff"
        strokeOpacity="0.7"
        strokeWidth="1"
      />
      {corners.map((p, i) => (
        <Grip
          key={i}
          small
          square
          p={here.toRoom(p)}
          label={`Scale ${name}, corner ${i + 1}`}
          onPointerDown={(e) =>
            transform(e, `Scale ${name}`, (from, to) => {
              // Evenly, from the middle; with Shift along each side by itself.
              const k = Math.max(0.02, distance(to, c) / Math.max(distance(from, c), 1e-6))
              const sx = e.shiftKey ? (to.x - c.x) / (from.x - c.x || 1) : k
              const sy = e.shiftKey ? (to.y - c.y) / (from.y - c.y || 1) : k
              return [sx, 0, c.x - sx * c.x, 0, sy, c.y - sy * c.y, 0, 0, 1]
            })
          }
        />
      ))}
      <Grip
        small
        p={knob}
        label={`Turn ${name}`}
        onPointerDown={(e) =>
          transform(e, `Turn ${name}`, (from, to) => {
            const a = Math.atan2(to.y - c.y, to.x - c.x) - Math.atan2(from.y - c.y, from.x - c.x)
            const [cos, sin] = [Math.cos(a), Math.sin(a)]
            return [cos, -sin, c.x - cos * c.x + sin * c.y, sin, cos, c.y - sin * c.x - cos * c.y, 0, 0, 1]
          })
        }
      />
    </g>
  )
}

/** The unit vector across a strand at one of its points. */
function across(knots: Knot[], i: number): Point {
  const ahead =
    i < knots.length - 1
      ? knots[i].out
        ? plus(point(knots[i].at), outOf(knots[i]))
        : point(knots[i + 1].at)
      : point(knots[i].at)
  const behind =
    i > 0 ? (knots[i].in ? plus(point(knots[i].at), inOf(knots[i])) : point(knots[i - 1].at)) : point(knots[i].at)
  const d = minus(ahead, behind)
  const l = Math.hypot(d.x, d.y) || 1
  return { x: d.y / l, y: -d.x / l }
}

/** Both sides of a strand, drawn thinly. */
function Sides({ knots, here, lens }: { knots: Knot[]; here: Placement; lens: Mapping | null }) {
  const side = (sign: number) =>
    knots.map((k, i) => ({
      ...k,
      at: vec(
        plus(point(k.at), {
          x: (across(knots, i).x * sign * (k.width ?? 0)) / 2,
          y: (across(knots, i).y * sign * (k.width ?? 0)) / 2,
        }),
      ),
    }))
  return (
    <>
      {[1, -1].map((sign) => (
        <g key={sign} fill="none">
          <path
            d={pathOf(...drawnIn(side(sign), here, lens), false)}
            stroke="#000"
            strokeOpacity="0.6"
            strokeWidth="2.500"
          />
          <path
            d={pathOf(...drawnIn(side(sign), here, lens), false)}
            stroke="#fff"
            strokeOpacity="0.8"
            strokeWidth="1"
            strokeDasharray="3 3"
          />
        </g>
      ))}
    </>
  )
}

function WidthGrip({
  knots,
  i,
  here,
  move,
}: {
  knots: Knot[]
  i: number
  here: Placement
  move: (e: ReactPointerEvent, label: string, change: (k: Knot[], delta: Point, p: Point) => void) => void
}) {
  const n = across(knots, i)
  const gap = 8 / here.scale(point(knots[i].at))
  const reach = (knots[i].width ?? 0) / 2 + gap
  return (
    <Grip
      small
      square
      p={here.toRoom(plus(point(knots[i].at), { x: n.x * reach, y: n.y * reach }))}
      label={`Width at point ${i + 1}`}
      onPointerDown={(e) =>
        move(e, 'Change the width', (ks, _, p) => {
          const d = minus(p, point(ks[i].at))
          ks[i].width = Math.round(Math.max(0.5, 2 * (Math.abs(d.x * n.x + d.y * n.y) - gap)) * 100) / 100
        })
      }
    />
  )
}
