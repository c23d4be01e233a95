import { create } from 'zustand'
import type { Point } from './matrix'

export type View = 'plate' | 'patch' | 'result' | 'difference'
export type Channel = 'colour' | 'red' | 'green' | 'blue' | 'luma'
export type Stage = 'mark' | 'follow' | 'fill' | 'settle'
/** What the pointer does on the picture. */
export type Tool = 'look' | 'outline' | 'region' | 'exclusion' | 'point' | 'surface' | 'correct' | 'place' | 'copy' | 'brush'
/** What the drawing tool makes. */
export type Drawn = 'curve' | 'box' | 'ellipse' | 'strand'

export interface Brush {
  size: number
  hardness: number
  opacity: number
}

interface BenchState {
  frame: number
  playing: boolean
  view: View
  locked: boolean
  /** Free and locked side by side. */
  beside: boolean
  /** What the picture is locked to: a track; null for the open removal's. */
  lockTo: string | null
  lockBy: 'whole' | 'position'
  /** How much of the reference frame shows through the locked picture, 0 to 1. */
  through: number
  /** What lies on the picture to judge a track by. */
  aid: 'none' | 'grid' | 'test'
  ghosts: boolean
  drives: boolean
  channel: Channel
  /** In stops. */
  exposure: number
  /** Screen pixels for each picture pixel; null fits the picture into the room there is. */
  zoom: number | null
  /** The picture point in the middle of the room, when zoomed. */
  centre: Point
  handles: boolean
  removal: string | null
  stage: Stage
  tool: Tool
  drawn: Drawn
  /** The selected shape, an outline or an exclusion, and its selected points. */
  outline: string | null
  knots: number[]
  /** A box drawn in the room to select points, from corner to corner. */
  box: [Point, Point] | null
  /** The selected points of a track. */
  points: string[]
  /** The selected key on the ribbon. */
  key: { lane: string; frame: number } | null
  /** The removal that is being copied to another place. */
  copying: string | null
  stroke: string | null
  brush: Brush
  /** From the painted pixel to the copied one; null as long as none was chosen. */
  offset: Point | null
  /** A source was chosen; the offset follows from where the next stroke begins. */
  source: Point | null
}

export const initial: BenchState = {
  frame: 0,
  playing: false,
  view: 'result',
  locked: false,
  beside: false,
  lockTo: null,
  lockBy: 'whole',
  through: 0,
  aid: 'none',
  ghosts: false,
  drives: false,
  channel: 'colour',
  exposure: 0,
  zoom: null,
  centre: { x: 0, y: 0 },
  handles: true,
  removal: null,
  stage: 'mark',
  tool: 'look',
  drawn: 'curve',
  outline: null,
  knots: [],
  box: null,
  points: [],
  key: null,
  copying: null,
  stroke: null,
  brush: { size: 24, hardness: 0.6, opacity: 1 },
  offset: null,
  source: null,
}

export const useBench = create<BenchState>(() => initial)
export const bench = {
  set: useBench.setState,
  get: useBench.getState,
  open(removal: string | null, stage: Stage = 'mark') {
    useBench.setState((s) => ({
      removal, stage, outline: null, knots: [], points: [], key: null, stroke: null, copying: null,
      tool: stage === 'fill' ? 'brush' : 'look',
      ...(removal && stage === 'fill' ? { view: 'patch' } : s.view === 'patch' && (!removal || s.stage === 'fill') ? { view: 'result' } : {}),
      ...(removal !== s.removal ? { source: null, offset: null } : {}),
    }))
  },
}
