import { create } from 'zustand'
import type { Point } from './matrix'

export type View = 'plate' | 'patch' | 'result' | 'difference'
export type Channel = 'colour' | 'red' | 'green' | 'blue' | 'luma'
export type Stage = 'mark' | 'follow' | 'fill' | 'settle'
/** What the pointer does on the picture. */
export type Tool = 'look' | 'outline' | 'region' | 'brush'

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
  /** The selected outline and its selected point. */
  outline: string | null
  knot: number | null
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
  channel: 'colour',
  exposure: 0,
  zoom: null,
  centre: { x: 0, y: 0 },
  handles: true,
  removal: null,
  stage: 'mark',
  tool: 'look',
  outline: null,
  knot: null,
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
      removal, stage, outline: null, knot: null, stroke: null,
      tool: stage === 'fill' ? 'brush' : 'look',
      ...(removal && stage === 'fill' ? { view: 'patch' } : s.view === 'patch' && (!removal || s.stage === 'fill') ? { view: 'result' } : {}),
      ...(removal !== s.removal ? { source: null, offset: null } : {}),
    }))
  },
}
