import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { answer, api, type Knot, type Pose, type Revision, type Shape } from '../../api/client'
import { useLive } from '../../api/live'
import { apply, identity, invert, type Point } from '../matrix'

const run = 32 // frames asked for at once

/** Shapes whose points change over time need the server to say how they lie; others are as they were drawn. */
const changes = (s: Shape) => !!s.keys?.length || !!s.placement?.length || s.points.some((k) => k.follows)

/** How the keyed shapes of a removal or track lie on a frame, at home, by id, and of which revision that is told. */
export function usePoses(
  shot: string,
  revision: Revision,
  of: { removal?: string; track?: string },
  shapes: Shape[],
  frame: number,
) {
  const first = Math.floor(frame / run) * run
  const { data } = useQuery({
    queryKey: ['poses', shot, revision.number, of.removal ?? '', of.track ?? '', first],
    queryFn: async () => ({
      revision: revision.number,
      ...(await answer(
        api.GET('/api/shots/{id}/poses', {
          params: {
            path: { id: shot },
            query: {
              revision: revision.number,
              removal: of.removal ?? '',
              track: of.track ?? '',
              first,
              last: first + run - 1,
            },
          },
        }),
      )),
    }),
    enabled: shapes.some(changes),
    placeholderData: keepPreviousData,
    gcTime: 60_000,
  })
  const here = data?.frames[frame - data.first] as Record<string, Pose> | undefined
  const edges = useLive((s) => s.edges)
  const pose = (s: Shape): Pose | null => {
    const known = changes(s) ? (here?.[s.id] ?? null) : still(s)
    const found = edges[s.id]?.[frame]
    return found ? { ...(known ?? still(s)), points: found } : known
  }
  return { pose, revision: data?.revision ?? revision.number }
}

const still = (s: Shape): Pose => ({ points: s.points, placement: identity })

const point = (v: number[]): Point => ({ x: v[0], y: v[1] })
const pair = (p: Point): [number, number] => [Math.round(p.x * 100) / 100, Math.round(p.y * 100) / 100]

/** By how much a point is moved by itself: by the tracked point that it follows. */
const shift = (pose: Pose, i: number): [number, number] => [pose.shifts?.[i]?.[0] ?? 0, pose.shifts?.[i]?.[1] ?? 0]

/** Points as they lie in home coordinates, after placement and shifts. */
export function placed(pose: Pose): Knot[] {
  return pose.points.map((k, i) => {
    const at = apply(pose.placement, point(k.at))
    const arm = (v?: number[]) => {
      if (!v) return undefined
      const end = apply(pose.placement, { x: k.at[0] + v[0], y: k.at[1] + v[1] })
      return [end.x - at.x, end.y - at.y]
    }
    const s = shift(pose, i)
    return { ...k, at: [at.x + s[0], at.y + s[1]], in: arm(k.in), out: arm(k.out) }
  })
}

/** The way back: points in home coordinates as they were before placement and shifts. */
export function unplaced(pose: Pose, knots: Knot[]): Knot[] {
  const back = invert(pose.placement)
  return knots.map((k, i) => {
    const s = shift(pose, i)
    const here = { x: k.at[0] - s[0], y: k.at[1] - s[1] }
    const at = apply(back, here)
    const arm = (v?: number[]) => {
      if (!v) return undefined
      const end = apply(back, { x: here.x + v[0], y: here.y + v[1] })
      return pair({ x: end.x - at.x, y: end.y - at.y })
    }
    const out: Knot = { ...k, at: pair(at) }
    const [i1, o1] = [arm(k.in), arm(k.out)]
    if (i1) out.in = i1
    else delete out.in
    if (o1) out.out = o1
    else delete out.out
    return out
  })
}
