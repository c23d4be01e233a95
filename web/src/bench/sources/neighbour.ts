import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import { boundsOf, vec } from '../handles/curve'
import type { Point } from '../matrix'
import type { Kind } from './kinds'

/** The frame's own pixels, from a little to the side. */
export const neighbour: Kind = {
  word: 'live neighbour',
  nudge: (s, frame, d) => setOffset(s, frame, (o) => ({ x: o.x + d.x, y: o.y + d.y })),
  keys: (s) => s.neighbour?.offsets ?? [],
}

export function newNeighbour(r: Removal, frame: number): FillSource {
  const n = r.fill.sources.filter((s) => s.kind === 'neighbour').length
  // Beginning a little farther to the side than the thing is wide.
  const b = r.mark.outlines.length ? boundsOf(r.mark.outlines[0].points) : null
  const aside = b ? Math.round(1.2 * (b.right - b.left)) : 40
  return {
    id: newId(),
    name: n ? `Live neighbour ${n + 1}` : 'Live neighbour',
    kind: 'neighbour',
    below: true,
    neighbour: { frame, offsets: [{ frame, ease: 'eased', offset: [aside, 0] }] },
  }
}

/** A neighbour's offset on a frame: eased between keys is worked out by the server; here straight, for handles. */
export function offsetAt(s: FillSource, frame: number): Point {
  const keys = s.neighbour?.offsets ?? []
  const after = keys.findIndex((k) => k.frame >= frame)
  const of = (i: number) => ({ x: keys[i].offset[0], y: keys[i].offset[1] })
  if (keys.length === 0) return { x: 0, y: 0 }
  if (after < 0) return of(keys.length - 1)
  if (after === 0 || keys[after].frame === frame) return of(after)
  const [a, b] = [of(after - 1), of(after)]
  const u = (frame - keys[after - 1].frame) / (keys[after].frame - keys[after - 1].frame)
  return { x: a.x + (b.x - a.x) * u, y: a.y + (b.y - a.y) * u }
}

/** Changes a neighbour's offset: its only one, or the key of a frame. */
export function setOffset(s: FillSource, frame: number, to: (o: Point) => Point) {
  const next = vec(to(offsetAt(s, frame)))
  const keys = s.neighbour!.offsets
  const here = keys.length === 1 ? keys[0] : keys.find((k) => k.frame === frame)
  if (here) here.offset = next
  else {
    const i = keys.findIndex((k) => k.frame > frame)
    keys.splice(i < 0 ? keys.length : i, 0, { frame, ease: 'eased', offset: next })
  }
}
