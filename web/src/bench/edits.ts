import type { Document, FillSource, Front, Knot, Removal, Shape, Track } from '../api/client'
import { newId, type Change } from '../api/treatment'
import { moveStroke, onSource, onStrokes, selectedOf, these } from './fill'
import { point, vec } from './handles/curve'
import type { BenchProps } from './props'
import { kinds, strokesOf } from './sources/kinds'
import { bench } from './state'

export type Edit = (label: string, change: Change) => Promise<void>

/** Begins a removal whose reference frame is the one shown. */
export function startRemoval({ shot, revision }: BenchProps, edit: Edit) {
  const id = newId()
  const n = free(
    'Removal',
    revision.document.removals.map((r) => r.name),
  )
  const { frame } = bench.get()
  const removal: Removal = {
    id,
    name: `Removal ${n}`,
    range: { first: shot.first, last: shot.last },
    reference: frame,
    mark: { outlines: [] },
    follow: {},
    fill: { sources: [] },
    settle: { opacity: 1 },
  }
  void edit(`New removal ${n}`, (d) => d.removals.push(removal))
  bench.open(id, 'mark')
  bench.set({ tool: 'outline' })
}

/** The first number that makes a name of its own. */
export function free(word: string, taken: string[]) {
  let n = 1
  while (taken.includes(`${word} ${n}`)) n++
  return n
}

/** Changes one removal of a document, if it is still there. */
export const on =
  (id: string, change: (r: Removal) => void): Change =>
  (d) => {
    const r = d.removals.find((x) => x.id === id)
    if (r) change(r)
  }

/** Changes one track of a document, if it is still there. */
export const onTrack =
  (id: string, change: (t: Track) => void): Change =>
  (d) => {
    const t = d.tracks.find((x) => x.id === id)
    if (t) change(t)
  }

/**
 * Whose shapes: a removal's outlines, where one of its sources or tones counts, a front, what its patch lies within, or
 * what is left out of a track's region.
 */
export interface Owner {
  removal?: string
  source?: string
  tone?: string
  front?: string
  within?: boolean
  track?: string
}

/** What is drawn or edited now. */
export function ownerNow(r: Removal): Owner {
  const { stage, sourceId, part } = bench.get()
  if (stage === 'follow' && r.follow.track) return { track: r.follow.track }
  if (stage === 'fill' && sourceId) return { removal: r.id, source: sourceId }
  if (stage === 'settle' && part) return { removal: r.id, tone: part }
  if (stage === 'guard' && part)
    return part === 'within' ? { removal: r.id, within: true } : { removal: r.id, front: part }
  return { removal: r.id }
}

/** All that is drawn for a removal. */
export const allShapes = (r: Removal): Shape[] => [
  ...r.mark.outlines,
  ...r.fill.sources.flatMap((s) => s.where ?? []),
  ...(r.settle.tones ?? []).flatMap((t) => t.where ?? []),
  ...(r.guard?.fronts ?? []).flatMap((f) => f.shapes ?? []),
  ...(r.guard?.within ?? []),
]

export function shapesOf(d: Document, owner: Owner): Shape[] {
  if (!owner.removal) return d.tracks.find((t) => t.id === owner.track)?.exclusions ?? []
  const r = d.removals.find((x) => x.id === owner.removal)
  if (owner.source) return r?.fill.sources.find((x) => x.id === owner.source)?.where ?? []
  if (owner.tone) return r?.settle.tones?.find((x) => x.id === owner.tone)?.where ?? []
  if (owner.front) return r?.guard?.fronts?.find((x) => x.id === owner.front)?.shapes ?? []
  return (owner.within ? r?.guard?.within : r?.mark.outlines) ?? []
}

/** Adds a shape to those of an owner, if it is still there. */
export function addShape(d: Document, owner: Owner, shape: Shape) {
  const track = d.tracks.find((t) => t.id === owner.track)
  const r = d.removals.find((x) => x.id === owner.removal)
  const source = r?.fill.sources.find((x) => x.id === owner.source)
  const tone = r?.settle.tones?.find((x) => x.id === owner.tone)
  const front = r?.guard?.fronts?.find((x) => x.id === owner.front)
  if (track) (track.exclusions ??= []).push(shape)
  else if (source) (source.where ??= []).push(shape)
  else if (tone) (tone.where ??= []).push(shape)
  else if (front) (front.shapes ??= []).push(shape)
  else if (r && owner.within) ((r.guard ??= {}).within ??= []).push(shape)
  else if (r && !owner.source && !owner.tone && !owner.front) r.mark.outlines.push(shape)
}

export const onShape =
  (owner: Owner, id: string, change: (s: Shape) => void): Change =>
  (d) => {
    const s = shapesOf(d, owner).find((x) => x.id === id)
    if (s) change(s)
  }

/** Moves an entry of a list before the one that comes before it. */
export function earlier<T>(all: T[], x: T) {
  const i = all.indexOf(x)
  if (i > 0) all.splice(i - 1, 2, all[i], all[i - 1])
}

/** Takes an entry out of a list. */
export function drop<T>(all: T[], x: T) {
  all.splice(all.indexOf(x), 1)
}

/** Puts a key in its place among others, or in that of one on the same frame. */
export function putKey<K extends { frame: number }>(keys: K[], key: K) {
  const i = keys.findIndex((k) => k.frame >= key.frame)
  if (i >= 0 && keys[i].frame === key.frame) keys[i] = key
  else keys.splice(i < 0 ? keys.length : i, 0, key)
}

/** Gives a shape other points on a frame: as a key if it has keys, else for good. */
export function setPoints(s: Shape, frame: number, points: Knot[]) {
  if (s.keys?.length) putKey(s.keys, { frame, ease: s.keys.find((k) => k.frame === frame)?.ease ?? 'eased', points })
  else s.points = points
}

/** Does the same to the points that a shape was drawn with and to those of every key. */
export function everywhere(s: Shape, change: (points: Knot[]) => Knot[]) {
  s.points = change(s.points)
  s.keys?.forEach((k) => (k.points = change(k.points)))
}

/** A removal, moved by d on its reference frame: outlines, paint and all; the track stays the same. */
export function copyRemoval(r: Removal, d: { x: number; y: number }, taken: string[]): Removal {
  const next = structuredClone(r)
  next.id = newId()
  next.name = `${r.name.replace(/ \d+$/, '')} ${free(r.name.replace(/ \d+$/, ''), taken)}`
  const move = (k: Knot) => ({ ...k, at: vec({ x: k.at[0] + d.x, y: k.at[1] + d.y }) })
  if (next.fill.sources.length) next.fill.copied = r.name
  next.mark.mattes = undefined // they ride on nothing: at the new place they would mark the old
  next.mark.outlines.forEach((s) => {
    s.id = newId()
    everywhere(s, (points) => points.map(move))
  })
  for (const s of [...(next.settle.tones ?? []).flatMap((t) => t.where ?? []), ...(next.guard?.within ?? [])])
    everywhere(s, (points) => points.map(move))
  for (const source of next.fill.sources) {
    kinds[source.kind].shift?.(source, d)
    source.where?.forEach((w) => everywhere(w, (points) => points.map(move)))
    for (const s of strokesOf(source)) {
      s.id = newId()
      if (s.path) {
        const [x, y] = s.path.shift ?? [0, 0]
        s.path.shift = vec({ x: x + d.x, y: y + d.y })
      }
      if (s.area) s.area.points = s.area.points.map(move)
      if (s.from?.middle) s.from.middle = vec({ x: s.from.middle[0] + d.x, y: s.from.middle[1] + d.y })
    }
  }
  return next
}

/** Removes what is selected: a key, points, a shape, a tracked point, a stroke. */
export function removeSelected({ revision }: BenchProps, edit: Edit) {
  const s = bench.get()
  const r = revision.document.removals.find((x) => x.id === s.removal)
  if (!r) return
  const owner = ownerNow(r)
  const shape = shapesOf(revision.document, owner).find((o) => o.id === s.outline)
  if (s.key) {
    const { lane, frame } = s.key
    bench.set({ key: null })
    void edit('Delete a key', (d) => deleteKey(d, lane, frame))
  } else if (shape) {
    const least = shape.kind === 'strand' ? 2 : 3
    const whole = s.knots.length === 0 || shape.points.length - s.knots.length < least
    const gone = new Set(s.knots)
    bench.set({ knots: [], ...(whole ? { outline: null } : {}) })
    void edit(whole ? `Delete ${shape.name}` : 'Delete points', (d) => {
      const list = shapesOf(d, owner)
      const i = list.findIndex((x) => x.id === shape.id)
      if (i < 0) return
      if (whole) list.splice(i, 1)
      else everywhere(list[i], (points) => points.filter((_, k) => !gone.has(k)))
    })
  } else if (s.stage === 'follow' && s.points.length && r.follow.track) {
    const gone = new Set(s.points)
    bench.set({ points: [] })
    void edit(
      'Delete points',
      onTrack(r.follow.track, (t) => {
        t.points = t.points?.filter((p) => !gone.has(p.id))
      }),
    )
  } else if (s.stage === 'fill' && selectedOf(r, s.strokes).length) {
    const strokes = selectedOf(r, s.strokes)
    bench.set({ strokes: [] })
    void edit(
      `Delete ${these(strokes.length)}`,
      on(r.id, (d) => dropStrokes(d, strokes)),
    )
  }
}

export function dropStrokes(r: Removal, ids: string[]) {
  for (const s of r.fill.sources) {
    const list = strokesOf(s)
    for (let i = list.length - 1; i >= 0; i--) if (ids.includes(list[i].id)) list.splice(i, 1)
  }
}

/** Moves the selected points of the selected outline by whole pixels, with the arrow keys. */
export function nudge({ revision }: BenchProps, edit: Edit, dx: number, dy: number): boolean {
  const s = bench.get()
  const r = revision.document.removals.find((x) => x.id === s.removal)
  if (r && s.stage === 'fill') return nudgePaint(r, edit, dx, dy)
  const owner = r && ownerNow(r)
  const shape = r && owner && shapesOf(revision.document, owner).find((o) => o.id === s.outline)
  if (!r || !shape || s.knots.length === 0) return false
  const chosen = new Set(s.knots)
  void edit(
    'Move points',
    onShape(owner!, shape.id, (o) => {
      const here = o.keys?.length ? (o.keys.find((k) => k.frame === s.frame)?.points ?? o.points) : o.points
      setPoints(
        o,
        s.frame,
        here.map((k, i) => (chosen.has(i) ? { ...k, at: vec({ x: point(k.at).x + dx, y: point(k.at).y + dy }) } : k)),
      )
    }),
  )
  return true
}

/** Moves the selected strokes, or else the brush's source, or else a neighbour's, by whole pixels. */
function nudgePaint(r: Removal, edit: Edit, dx: number, dy: number): boolean {
  const s = bench.get()
  const strokes = selectedOf(r, s.strokes)
  if (strokes.length) {
    void edit(
      `Move ${these(strokes.length)}`,
      onStrokes(r.id, strokes, (x) => moveStroke(x, { x: dx, y: dy })),
    )
    return true
  }
  const source = r.fill.sources.find((x) => x.id === s.sourceId)
  if (source && kinds[source.kind].nudge) {
    void edit(
      `Move ${source.name}`,
      onSource(r.id, source.id, (x) => kinds[x.kind].nudge?.(x, s.frame, { x: dx, y: dy })),
    )
    return true
  }
  const { offset, spot } = s.origin
  if (!offset && !spot) return false
  bench.set({
    origin: {
      ...s.origin,
      offset: offset && { x: offset.x + dx, y: offset.y + dy },
      spot: spot && { x: spot.x + dx, y: spot.y + dy },
    },
  })
  return true
}

type Doubt = NonNullable<NonNullable<Shape['keys']>[number]['doubt']>

/** Why a key that following an edge made should be looked at, in words. */
export const doubts: Record<Doubt, string> = {
  faint: 'inside and outside hardly part',
  slips: 'it goes away from what lies inside',
  leaps: 'it moved suddenly',
}

/** The doubts of keys, by frame. */
export const doubtsOf = (keys: { frame: number; doubt?: Doubt }[]) =>
  new Map(keys.flatMap((k) => (k.doubt ? [[k.frame, doubts[k.doubt]] as const] : [])))

type KeysOfLane = { lane: string; label: string; frames: number[]; doubts: Map<number, string> }

/** The region that is followed from a frame, at home: of several the one whose frame is nearest, the first before others. */
export function regionFor(t: Track, frame: number): { region: number[][]; frame: number } {
  let best = { region: t.region ?? [], frame: t.home }
  for (const r of t.regions ?? []) if (Math.abs(frame - r.frame) < Math.abs(frame - best.frame)) best = r
  return best
}

/** Changes the region of a track that was drawn on a frame. */
export function setRegion(t: Track, frame: number, change: (region: number[][]) => number[][]) {
  const fresh = t.regions?.find((r) => r.frame === frame)
  if (fresh) fresh.region = change(fresh.region)
  else t.region = change(t.region ?? [])
}

/** The lanes of keys that the ribbon shows, each with its frames. The name of a lane says where its keys are. */
export function lanesOf(d: Document, removal: string | null, shape: string | null): KeysOfLane[] {
  const r = d.removals.find((x) => x.id === removal)
  if (!r) return []
  const out: KeysOfLane[] = []
  const add = (lane: string, label: string, keys?: { frame: number; doubt?: Doubt }[]) =>
    keys?.length && out.push({ lane, label, frames: keys.map((k) => k.frame), doubts: doubtsOf(keys) })
  const t = d.tracks.find((x) => x.id === r.follow.track)
  const s = [...allShapes(r), ...(t?.exclusions ?? [])].find((x) => x.id === shape)
  if (s) {
    add(`points ${s.id}`, `${s.name}: points`, s.keys)
    add(`placement ${s.id}`, `${s.name}: placement`, s.placement)
  }
  for (const f of r.fill.sources)
    if (keysOfSource(f).length > 1) add(`offset ${r.id} ${f.id}`, `${f.name}: offset`, keysOfSource(f))
  add(`dissolve ${r.id}`, 'Opacity', r.settle.dissolve)
  add(`light ${r.id}`, 'Light: strength', r.settle.light?.keys)
  add(`soft ${r.id}`, 'Softness', r.settle.softness?.keys)
  for (const x of r.settle.tones ?? []) add(`tone ${r.id} ${x.id}`, x.name, x.keys)
  t?.corrections?.forEach((c) => add(`correction ${t.id} ${c.id}`, c.name, c.keys))
  if (t) add(`placed ${t.id}`, 'Placed by hand', t.placed)
  return out
}

type Keys = { frame: number }[]

const keysOfSource = (s: FillSource): Keys => kinds[s.kind].keys?.(s) ?? []

const shapesIn = (d: Document) => [...d.removals.flatMap(allShapes), ...d.tracks.flatMap((t) => t.exclusions ?? [])]

function keysOf(d: Document, lane: string): Keys | undefined {
  const [kind, a, b] = lane.split(' ')
  const shapes = shapesIn(d)
  const r = d.removals.find((x) => x.id === a)
  const t = d.tracks.find((x) => x.id === a)
  switch (kind) {
    case 'points':
      return shapes.find((s) => s.id === a)?.keys
    case 'placement':
      return shapes.find((s) => s.id === a)?.placement
    case 'correction':
      return t?.corrections?.find((c) => c.id === b)?.keys
    case 'placed':
      return t?.placed
    case 'dissolve':
      return r?.settle.dissolve
    case 'light':
      return r?.settle.light?.keys
    case 'soft':
      return r?.settle.softness?.keys
    case 'tone':
      return r?.settle.tones?.find((x) => x.id === b)?.keys
    case 'offset':
      return r?.fill.sources.filter((f) => f.id === b).map(keysOfSource)[0]
  }
}

export function deleteKey(d: Document, lane: string, frame: number) {
  const keys = keysOf(d, lane)
  const i = keys?.findIndex((k) => k.frame === frame) ?? -1
  if (!keys || i < 0) return
  // The last key's points stay as the shape's own.
  const [kind, id] = lane.split(' ')
  if (kind === 'points' && keys.length === 1) {
    const s = shapesIn(d).find((x) => x.id === id)
    if (s?.keys) s.points = s.keys[0].points
  }
  if (kind === 'offset' && keys.length === 1) return // a neighbour needs one
  keys.splice(i, 1)
}

/** Moves a key to another frame, or puts a copy there. One that was there gives way. */
export function moveKey(d: Document, lane: string, from: number, to: number, copy: boolean) {
  const keys = keysOf(d, lane)
  const key = keys?.find((k) => k.frame === from)
  if (!keys || !key || from === to) return
  const next = { ...structuredClone(key), frame: to }
  if (!copy) keys.splice(keys.indexOf(key), 1)
  putKey(keys, next)
}

export function easeKey(d: Document, lane: string, frame: number) {
  const key = keysOf(d, lane)?.find((k) => k.frame === frame) as { ease?: string } | undefined
  if (key) key.ease = key.ease === 'linear' ? 'eased' : 'linear'
}

/** Changes a front of a removal's guard, if it is still there. */
export const onFront = (removal: string, id: string, change: (f: Front, all: Front[]) => void): Change =>
  on(removal, (r) => {
    const all = r.guard?.fronts ?? []
    const f = all.find((x) => x.id === id)
    if (f) change(f, all)
  })

/** What keyed numbers say on a frame: straight between keys, for fields; the server eases. */
export function valueAt(keys: { frame: number; value: number }[] | undefined, plain: number, frame: number): number {
  if (!keys?.length) return plain
  const after = keys.findIndex((k) => k.frame >= frame)
  if (after < 0) return keys[keys.length - 1].value
  if (after === 0 || keys[after].frame === frame) return keys[after].value
  const [a, b] = [keys[after - 1], keys[after]]
  return a.value + ((b.value - a.value) * (frame - a.frame)) / (b.frame - a.frame)
}
