import type { Table } from './cube'
import type { Knot, Shot } from '../api/client'
import type { Present } from '../api/treatment'
import type { FrameStore, OverlaySet } from './frames'
import { minus, plus, point, vec } from './handles/curve'
import { scaleAt, type Mapping } from './mapping'
import type { Point } from './matrix'
import type { Motion, Motions } from './motion'
import type { RemovalStanding } from './stages'

/** What every part of the bench is given. */
export interface BenchProps {
  shot: Shot
  revision: Present
  /** Takes pictures of code values to the screen; null where they are for the screen. */
  table: Table | null
  frames: FrameStore
  overlays: OverlaySet | null
  motions: Motions
  /** The track that carries the open removal. */
  motion: Motion | null
  /** How far the removals are, by their identifiers. */
  standings: Map<string, RemovalStanding>
}

/** How places in some coordinates, those of the shown frame or of a home, relate to the room. */
export interface Placement {
  /** To CSS pixels of the room. */
  toRoom: (p: Point) => Point
  fromRoom: (p: Point) => Point
  /** CSS pixels for each picture pixel at a place. */
  scale: (p: Point) => number
  /** Straight lines of these coordinates are not straight in the room. */
  bent: boolean
  /** It is known where these coordinates lie on the shown frame. */
  placed: boolean
}

/** Coordinates that a mapping takes to those of another placement; unplaced, and taken as they are, for none. */
export function within(placement: Placement, toIt: Mapping | null): Placement {
  if (!toIt) return { ...placement, placed: false }
  const back = toIt.inverse()
  return {
    toRoom: (p) => placement.toRoom(toIt.apply(p)),
    fromRoom: (p) => back.apply(placement.fromRoom(p)),
    scale: (p) => placement.scale(toIt.apply(p)) * scaleAt(toIt, p),
    bent: placement.bent || toIt.cells > 1,
    placed: placement.placed,
  }
}

/** Where a pointer is. */
export function pointerAt(e: { clientX: number; clientY: number }, svg: Element, placement: Placement): Point {
  const box = svg.getBoundingClientRect()
  return placement.fromRoom({ x: e.clientX - box.left, y: e.clientY - box.top })
}

/** A shape's points as what lies between them is drawn, and in which coordinates: without the lens where it is straight there. */
export function drawnIn(knots: Knot[], here: Placement, lens: Mapping | null): [Knot[], Placement] {
  if (!lens) return [knots, here]
  const out = lens.inverse()
  return [knots.map((k) => carried(k, out)), within(here, lens)]
}

/** A point with its handles, taken along by a mapping. */
export function carried(k: Knot, m: Mapping): Knot {
  const at = m.apply(point(k.at))
  const arm = (v?: number[]) => v && vec(minus(m.apply(plus(point(k.at), point(v))), at))
  return { ...k, at: [at.x, at.y], in: arm(k.in), out: arm(k.out) }
}
