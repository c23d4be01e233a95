import type { FillSource, From, Knot, Removal, Stroke } from '../api/client'
import { newId, type Change } from '../api/treatment'
import { vec } from './handles/curve'
import { paintable, paintedAt, pictureOf, strokeList, strokesOf, travels } from './sources/kinds'
import type { Matrix, Point } from './matrix'
import { bench, initial, type Brush, type Mode, type Origin } from './state'

/** Of a brush, pixels. */
export const mostSize = 2000

export const modes: { value: Mode; label: string; hint: string }[] = [
  { value: 'clone', label: 'Clone', hint: 'Copies pixels from elsewhere' },
  { value: 'heal', label: 'Heal', hint: 'Texture from elsewhere, light and colour of the place itself' },
  { value: 'erase', label: 'Erase', hint: 'Takes paint away; what was there before shows again' },
  { value: 'colour', label: 'Colour', hint: 'A plain colour; hold P and click to pick one' },
  { value: 'soften', label: 'Soften', hint: 'Blurs what is there' },
  { value: 'smear', label: 'Smear', hint: 'Drags what is there along' },
  { value: 'lift', label: 'Lift', hint: 'More light' },
  { value: 'lower', label: 'Lower', hint: 'Less light' },
]

export const copies = (m: Mode) => m === 'clone' || m === 'heal'

export const allStrokes = (r: Removal): Stroke[] => r.fill.sources.flatMap(strokesOf)

/** Those of the selected strokes that are there: undo may have taken one away. */
export const selectedOf = (r: Removal, selected: string[]): string[] =>
  selected.length ? allStrokes(r).flatMap((s) => (selected.includes(s.id) ? [s.id] : [])) : []

/** The source that a stroke belongs to. */
export const sourceOf = (r: Removal, stroke: string) =>
  r.fill.sources.find((s) => strokesOf(s).some((x) => x.id === stroke))

/** What is painted on now: the chosen source, or the last that can be painted on; null where there is none yet. */
export function paintedOn(r: Removal, sourceId: string | null): FillSource | null {
  const chosen = r.fill.sources.find((s) => s.id === sourceId)
  if (chosen) return chosen
  return [...r.fill.sources].reverse().find((s) => paintable(s) && !pictureOf(s)) ?? null
}

/** The frame that is painted on: of a clean plate its own, else the one that is shown. */
export const paintFrame = (r: Removal, sourceId: string | null, shown: number) => {
  const s = paintedOn(r, sourceId)
  return (s && paintedAt(s)) ?? shown
}

export const onSource =
  (removal: string, id: string, change: (s: FillSource) => void): Change =>
  (d) => {
    const s = d.removals.find((r) => r.id === removal)?.fill.sources.find((x) => x.id === id)
    if (s) change(s)
  }

export const onStroke =
  (removal: string, id: string, change: (s: Stroke, at: { list: Stroke[]; i: number }) => void): Change =>
  (d) => {
    for (const s of d.removals.find((r) => r.id === removal)?.fill.sources ?? []) {
      const list = strokesOf(s)
      const i = list.findIndex((x) => x.id === id)
      if (i >= 0) change(list[i], { list, i })
    }
  }

/** Changes several strokes of a removal at once. */
export const onStrokes =
  (removal: string, ids: string[], change: (s: Stroke) => void): Change =>
  (d) => {
    for (const s of d.removals.find((r) => r.id === removal)?.fill.sources ?? [])
      for (const x of strokesOf(s)) if (ids.includes(x.id)) change(x)
  }

/** One stroke in words, or so many. */
export const these = (n: number) => (n === 1 ? 'a stroke' : `${n} strokes`)

/** Gives a stroke another size, and an area's soft edge with it. */
export function resizeStroke(s: Stroke, k: number) {
  const within = (v: number, low: number, high: number) => Math.min(high, Math.max(low, Math.round(v * 100) / 100))
  if (s.area) s.area.feather = within((s.area.feather ?? 0) * k, 0, 500)
  else s.size = within(s.size * k, 1, mostSize)
}

/** The strokes from one to another in the order in which they are laid. */
export function between(strokes: Stroke[], from: string, to: string): string[] {
  const [i, k] = [strokes.findIndex((s) => s.id === from), strokes.findIndex((s) => s.id === to)]
  return i < 0 || k < 0 ? [to] : strokes.slice(Math.min(i, k), Math.max(i, k) + 1).map((s) => s.id)
}

/** How large the brush is on the picture, drawn at so many screen pixels for each of its own. */
export const sizeOnPicture = (b: Brush, scale: number) =>
  b.sized === 'screen' ? Math.min(mostSize, Math.max(1, Math.round((b.size / scale) * 100) / 100)) : b.size

/** Moves a stroke and all that belongs to it; its source goes along. */
export function moveStroke(s: Stroke, d: Point) {
  if (s.path) {
    const [x, y] = s.path.shift ?? [0, 0]
    s.path.shift = vec({ x: x + d.x, y: y + d.y })
  }
  if (s.area)
    s.area.points = s.area.points.map((k: Knot) => ({ ...k, at: vec({ x: k.at[0] + d.x, y: k.at[1] + d.y }) }))
  if (s.from?.middle) s.from.middle = vec({ x: s.from.middle[0] + d.x, y: s.from.middle[1] + d.y })
}

/** The origin in hand as a stroke keeps it. */
export function fromOf(o: Origin, offset: Point): From {
  return {
    offset: vec(offset),
    ...(o.turn ? { turn: o.turn } : {}),
    ...(o.scale !== 1 ? { scale: o.scale } : {}),
    ...(o.mirror ? { mirror: true } : {}),
    ...(o.middle && o.frame !== null ? { middle: vec(o.middle) } : {}),
    ...(o.frame !== null ? { frame: o.frame } : {}),
    ...(o.plain ? { plain: true } : {}),
    ...(o.crisp ? { crisp: true } : {}),
  }
}

/** Where painted pixels come from, as a matrix; begin stands for a middle that is not given. */
export function matrixOf(f: From, begin: Point): Matrix {
  const m = f.middle ? { x: f.middle[0], y: f.middle[1] } : begin
  const k = f.scale || 1
  const a = ((f.turn ?? 0) * Math.PI) / 180
  const [c, s] = [Math.cos(a) * k, Math.sin(a) * k]
  const w = f.mirror ? -1 : 1
  const round = f.crisp ? Math.round : (v: number) => v
  const to = { x: m.x + round(f.offset[0]), y: m.y + round(f.offset[1]) }
  return [c * w, -s, to.x - c * w * m.x + s * m.y, s * w, c, to.y - s * w * m.x - c * m.y, 0, 0, 1]
}

/**
 * A frame on loan taken hold of at one place and dragged to another: what was seen there is seen here then. It is moved,
 * or turned or scaled around its middle.
 */
export function dragged(o: Origin, from: Point, to: Point, by: 'move' | 'turn' | 'scale'): Partial<Origin> {
  const m = o.middle ?? { x: 0, y: 0 }
  const offset = o.offset ?? { x: 0, y: 0 }
  const [before, after] = [
    { x: from.x - m.x, y: from.y - m.y },
    { x: to.x - m.x, y: to.y - m.y },
  ]
  if (by === 'turn') {
    const angle = ((Math.atan2(after.y, after.x) - Math.atan2(before.y, before.x)) * 180) / Math.PI
    const turn = o.turn + (o.mirror ? angle : -angle)
    return { turn: Math.round((((turn + 540) % 360) - 180) * 100) / 100 }
  }
  if (by === 'scale') {
    const ratio = Math.hypot(before.x, before.y) / Math.max(1, Math.hypot(after.x, after.y))
    return { scale: Math.round(Math.min(10, Math.max(0.1, o.scale * ratio)) * 10000) / 10000 }
  }
  const a = matrixOf({ ...fromOf(o, offset), crisp: false }, m)
  const [dx, dy] = [to.x - from.x, to.y - from.y]
  return { offset: { x: offset.x - a[0] * dx - a[1] * dy, y: offset.y - a[3] * dx - a[4] * dy } }
}

/** How a healing stroke takes on the light of its place. */
export const healing = (b: Pick<Brush, 'texture' | 'light'>) => ({
  texture: b.texture,
  ...(b.light < 1 ? { light: b.light } : {}),
})

/** A new stroke with the brush in hand; its path comes with the hand. */
export function newStroke(b: Brush, frame: number, travelling: boolean, from: From | undefined): Stroke {
  const amount =
    b.mode === 'soften' || b.mode === 'smear' || b.mode === 'lift' || b.mode === 'lower' ? b.amounts[b.mode] : undefined
  return {
    id: newId(),
    mode: b.mode,
    home: frame,
    size: b.size,
    hardness: b.hardness,
    opacity: b.opacity,
    ...(b.flow < 1 ? { flow: b.flow } : {}),
    ...(b.spacing !== 0.1 ? { spacing: b.spacing } : {}),
    ...(b.roundness < 1 ? { roundness: b.roundness, angle: b.angle } : {}),
    ...(b.jitter ? { jitter: b.jitter } : {}),
    ...(b.pen.length ? { pen: b.pen } : {}),
    ...(b.channels !== 'rgb' ? { channels: b.channels } : {}),
    ...(b.mode === 'colour' ? { colour: b.colour } : {}),
    ...(amount !== undefined ? { amount } : {}),
    ...(b.mode === 'heal' ? healing(b) : {}),
    ...(from ? { from } : {}),
    ...(b.still ? { ride: 'still' } : {}),
    ...(travelling && b.lasts === 'this' ? { range: { first: frame, last: frame } } : {}),
  }
}

/** The frames on which travelling strokes are there. */
export function paintedFrames(r: Removal, first: number, last: number): Set<number> {
  const out = new Set<number>()
  for (const s of r.fill.sources) {
    if (!travels(s) || s.off) continue
    for (const x of strokesOf(s)) {
      if (x.off) continue
      for (let n = Math.max(first, x.range?.first ?? first); n <= Math.min(last, x.range?.last ?? last); n++) out.add(n)
    }
  }
  return out
}

/** The next frame of the removal without travelling paint; null where there is none. */
export function nextUnpainted(r: Removal, frame: number): number | null {
  const painted = paintedFrames(r, r.range.first, r.range.last)
  for (let n = Math.max(frame + 1, r.range.first); n <= r.range.last; n++) if (!painted.has(n)) return n
  return null
}

/** Copies the strokes of the frame painted last before this one to here: the track carries them. */
export function repeatHere(r: Removal, source: FillSource, frame: number): Change | null {
  const own = strokesOf(source).filter((s) => s.range && s.range.first === s.range.last && !s.off)
  const before = Math.max(...own.map((s) => s.range!.first).filter((n) => n < frame))
  if (!Number.isFinite(before)) return null
  const copy = own
    .filter((s) => s.range!.first === before)
    .map((s) => ({ ...structuredClone(s), id: newId(), range: { first: frame, last: frame } }))
  return onSource(r.id, source.id, (s) => {
    strokeList(s)?.push(...structuredClone(copy))
  })
}

type Frames = NonNullable<Stroke['range']>

/**
 * Lays the strokes of the frame painted last, at or before this one, on all frames of a range as well, in one piece: the
 * track carries each, and it copies every frame's own pixels. Frames that have strokes of their own keep those.
 */
export function repeatOver(r: Removal, source: FillSource, frame: number, range: Frames): Change | null {
  const own = strokesOf(source).filter((s) => s.range && s.range.first === s.range.last && !s.off)
  const from = Math.max(...own.map((s) => s.range!.first).filter((n) => n <= frame))
  if (!Number.isFinite(from)) return null
  const taken = new Set(own.map((s) => s.range!.first))
  const runs: Frames[] = []
  for (let n = range.first; n <= range.last; n++) {
    if (taken.has(n)) continue
    const last = runs.at(-1)
    if (last && last.last === n - 1) last.last = n
    else runs.push({ first: n, last: n })
  }
  if (!runs.length) return null
  const copies = runs.flatMap((run) =>
    own.filter((s) => s.range!.first === from).map((s) => ({ ...structuredClone(s), id: newId(), range: run })),
  )
  return onSource(r.id, source.id, (s) => {
    strokeList(s)?.push(...structuredClone(copies))
  })
}

/** Linear light as an sRGB colour (IEC 61966-2-1), and back. */
export const toCode = (l: number) =>
  Math.round(255 * Math.min(1, Math.max(0, l <= 0.0031308 ? l * 12.92 : 1.055 * l ** (1 / 2.4) - 0.055)))
export const toLight = (v: number) => {
  const c = v / 255
  return Math.round(1e6 * (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4)) / 1e6
}
export const cssOf = (c: number[]) => `rgb(${c.map(toCode).join(' ')})`

export const setBrush = (change: Partial<Brush>) => bench.set((s) => ({ brush: { ...s.brush, ...change } }))
/** Takes the source that was in hand before, and keeps this one. */
export const otherOrigin = () =>
  bench.set((s) => ({
    origin: s.other ? { ...initial.origin, ...s.other } : { ...s.origin, offset: null, spot: null, frame: null },
    other: s.origin,
  }))
export const setOrigin = (change: Partial<Origin>) => bench.set((s) => ({ origin: { ...s.origin, ...change } }))
