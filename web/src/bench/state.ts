import { create } from 'zustand'
import type { Mesh } from './mapping'
import type { Point } from './matrix'

export const views = [
  'plate',
  'patch',
  'result',
  'difference',
  'alone',
  'matte',
  'tint',
  'light',
  'grain',
  'seen',
  'marked',
  'gathered',
  'found',
] as const
export type View = (typeof views)[number]

/** Those that explain, on which paint is not seen as it is laid. */
const explains = new Set<View>(['matte', 'tint', 'light', 'grain', 'seen', 'marked', 'gathered', 'found'])

export const showsPaint = (v: View) => !explains.has(v)
export type Channel = 'colour' | 'red' | 'green' | 'blue' | 'luma'
export type Stage = 'mark' | 'follow' | 'fill' | 'settle' | 'guard'
/** What the pointer does on the picture. */
export type Tool =
  | 'look'
  | 'outline'
  | 'region'
  | 'fresh'
  | 'exclusion'
  | 'point'
  | 'surface'
  | 'correct'
  | 'place'
  | 'copy'
  | 'brush'
  | 'area'
  | 'where'
  | 'pick'
  | 'guide'
  | 'from'
  | 'setpoints'
  | 'straightline'
/** What the drawing tool makes. */
export type Drawn = 'curve' | 'box' | 'ellipse' | 'strand'

export type Mode = 'clone' | 'heal' | 'erase' | 'colour' | 'soften' | 'smear' | 'lift' | 'lower'

/** What the brush in hand is like. */
export interface Brush {
  mode: Mode
  size: number
  hardness: number
  opacity: number
  flow: number
  spacing: number
  roundness: number
  angle: number
  jitter: number
  pen: ('size' | 'opacity' | 'flow' | 'shape')[]
  channels: string
  /** Linear light. */
  colour: [number, number, number]
  /** Of soften, smear, lift and lower: each has its own. */
  amounts: { soften: number; smear: number; lift: number; lower: number }
  /** Of heal: contrast of texture, and how much of the place's light is taken on; 1 as its place has it. */
  texture: number
  light: number
  /** Frames on which new travelling strokes are there. */
  lasts: 'this' | 'all'
  /** New strokes stay on the screen and are not carried by the track. */
  still: boolean
  /** What the size is measured in: pixels of the picture, or of the screen, whatever the zoom. */
  sized: 'picture' | 'screen'
}

/** Where copied pixels come from. */
export interface Origin {
  /** From the painted pixel to the copied one; null as long as none was chosen. */
  offset: Point | null
  /** A place was chosen; the offset follows from where the next stroke begins. */
  spot: Point | null
  /** Every stroke begins from the place again. */
  stays: boolean
  turn: number
  scale: number
  mirror: boolean
  /** Around which it is turned, for a frame on loan; null for where a stroke begins. */
  middle: Point | null
  /** The frame that lends its pixels; null for the one that is painted on. */
  frame: number | null
  plain: boolean
  crisp: boolean
}

export interface BenchState {
  frame: number
  playing: boolean
  view: View
  locked: boolean
  /** Free and locked side by side. */
  beside: boolean
  /** What the picture is locked to: a track; null for the open removal's. */
  lockTo: string | null
  lockBy: 'whole' | 'position' | 'flat'
  /** How many frames a second were shown while playing, and how many came late since it began. */
  pace: { rate: number; late: number } | null
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
  /** The picture point in the middle of the room; null for the middle of what is fitted. */
  centre: Point | null
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
  /** Where on the room's picture the ring of tools is open. */
  ring: Point | null
  /** A key that the ring holds for the next touch, and what that will do. */
  armed: { key: string; tells: string } | null
  /** A pen was seen. */
  pen: boolean
  /** The selected strokes. */
  strokes: string[]
  brush: Brush
  origin: Origin
  /** The source that was in hand before, to go back and forth between two. */
  other: Origin | null
  /** The source of clean pixels that is painted on or edited. */
  sourceId: string | null
  /** The tone (Settle) or the front (Guard) that is edited; within for what the patch lies within. */
  part: string | null
  /** How the frame on loan is shown while it is lined up. */
  loan: { as: 'hidden' | 'through' | 'difference'; share: number }
  /** The strokes of the frame painted last are shown faintly. */
  faint: boolean
  /** The plate is shown as long as a key is held. */
  before: boolean
  /** Left of this share of the room the plate is shown; null for nowhere. */
  split: number | null
  /** How many times a difference is shown. */
  gain: number
  /** Several removals, to be changed at once. */
  picked: string[]
  /** Groups of removals that are folded in the list. */
  folded: string[]
  /** Frames that are played in a loop; null for all. */
  loop: { first: number; last: number } | null
  /** The set is open beside the picture: lens, camera and cards. */
  setOpen: boolean
  /** The chosen points of the set, by number. */
  chosen: number[]
  /** The card in hand, by its track. */
  card: string | null
  /** The picture is shown with the lens taken out. */
  straight: boolean
  /** A card while it is moved: where it is seen on a frame, and where it takes what is on its home frame. */
  moving: { track: string; frame: number; corners: number[][]; mesh?: Mesh } | null
}

export const initial: BenchState = {
  frame: 0,
  playing: false,
  view: 'result',
  locked: false,
  beside: false,
  lockTo: null,
  lockBy: 'whole',
  pace: null,
  through: 0,
  aid: 'none',
  ghosts: false,
  drives: false,
  channel: 'colour',
  exposure: 0,
  zoom: null,
  centre: null,
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
  ring: null,
  armed: null,
  pen: false,
  strokes: [],
  brush: {
    mode: 'clone',
    size: 24,
    hardness: 0.6,
    opacity: 1,
    flow: 1,
    spacing: 0.1,
    roundness: 1,
    angle: 0,
    jitter: 0,
    pen: ['size'],
    channels: 'rgb',
    colour: [0.18, 0.18, 0.18],
    amounts: { soften: 2, smear: 0.7, lift: 0.3, lower: 0.3 },
    texture: 1,
    light: 1,
    lasts: 'this',
    still: false,
    sized: 'picture',
  },
  origin: {
    offset: null,
    spot: null,
    stays: false,
    turn: 0,
    scale: 1,
    mirror: false,
    middle: null,
    frame: null,
    plain: false,
    crisp: true,
  },
  other: null,
  sourceId: null,
  loan: { as: 'hidden', share: 0.5 },
  faint: false,
  before: false,
  split: null,
  gain: 4,
  picked: [],
  folded: [],
  loop: null,
  part: null,
  setOpen: false,
  chosen: [],
  card: null,
  straight: false,
  moving: null,
}

export const useBench = create<BenchState>(() => initial)
export const bench = {
  set: useBench.setState,
  get: useBench.getState,
  open(removal: string | null, stage: Stage = 'mark') {
    useBench.setState((s) => ({
      removal,
      stage,
      outline: null,
      knots: [],
      points: [],
      key: null,
      strokes: [],
      copying: null,
      tool: stage === 'fill' ? 'brush' : 'look',
      ...(removal && stage === 'fill'
        ? { view: 'patch' }
        : s.view === 'patch' && (!removal || s.stage === 'fill')
          ? { view: 'result' }
          : {}),
      part: null,
      ...(removal !== s.removal ? { origin: initial.origin, other: null, sourceId: null, loan: initial.loan } : {}),
    }))
  },
}
