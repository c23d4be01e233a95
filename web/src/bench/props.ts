import type { Revision, Shot } from '../api/client'
import type { FrameStore, OverlaySet } from './frames'
import type { Point } from './matrix'
import type { Motion } from './motion'

/** What every part of the bench is given. */
export interface BenchProps {
  shot: Shot
  revision: Revision
  frames: FrameStore
  overlays: OverlaySet | null
  motion: Motion
}

/** How places on the reference frame, on the shown frame and in the room relate. */
export interface Placement {
  /** From reference frame coordinates to CSS pixels of the room. */
  toRoom: (p: Point) => Point
  fromRoom: (p: Point) => Point
  /** CSS pixels for each picture pixel. */
  scale: number
  /** The shown frame has a known place for the reference frame's coordinates. */
  placed: boolean
}
