import { keepPreviousData, useQueries } from '@tanstack/react-query'
import { useMemo } from 'react'
import { answer, api, type Moment, type Revision, type Schemas, type Track } from '../api/client'
import { useLive, type Found } from '../api/live'
import { isOpen, useTasks } from '../api/tasks'
import { confirmedOf, type Present } from '../api/treatment'
import { chain, identity, ofMatrix, ofMesh, square, translation, type Mapping, type Mesh } from './mapping'
import type { Point } from './matrix'

type Place = Schemas['PlaceOfPoint']

/** Where a track's surface is: what is saved, and what a running measurement has found so far. */
export interface Motion {
  track: Track
  samples: Map<number, Moment>
  /** Of a track of points: where each is tracked, by its id. */
  points: Map<string, Map<number, Place>>
  /** From the track's home to a frame; null where it is not known. */
  at: (frame: number) => Mapping | null
  /** The task that measures it now. */
  running: string | null
  /** Of a card: its corners on the home frame with the lens taken out. */
  straight: Point[] | null
  /** What that has found so far and is not saved yet: from home to frame. */
  found: Map<number, Mesh> | null
}

/** Where all surfaces of the shot are. */
export interface Motions {
  of: (id: string | undefined) => Motion | null
  /** From frame a to frame b by a track; null where it is not known on one of them. */
  between: (id: string | undefined, a: number, b: number) => Mapping | null
}

export const still = 'still'

/** What of a track decides where its surface is: names and colours do not. */
function essence(revision: Revision, track: Track): string {
  const base = track.over ? revision.document.tracks.find((t) => t.id === track.over) : undefined
  const { lens, camera } = revision.document
  const set =
    track.kind === 'card'
      ? JSON.stringify([lens, camera?.world, camera?.data])
      : track.straight
        ? JSON.stringify([lens])
        : ''
  return JSON.stringify({ ...track, name: '', colour: '' }) + set + (base ? essence(revision, base) : '')
}

export function useMotions(shot: string, revision: Present): Motions {
  const { tracks } = revision.document
  const there = new Set(confirmedOf(revision).tracks.map((t) => t.id))
  const answers = useQueries({
    queries: tracks.map((t) => ({
      queryKey: ['motion', shot, t.id, essence(revision, t)],
      queryFn: () =>
        answer(
          api.GET('/api/shots/{id}/tracks/{track}', {
            params: { path: { id: shot, track: t.id }, query: { revision: revision.number } },
          }),
        ),
      enabled: there.has(t.id),
      placeholderData: keepPreviousData,
      gcTime: 60_000,
      retry: 2, // the treatment may be ahead of what the server has confirmed
    })),
  })
  const tasks = useTasks(shot).filter((t) => t.kind === 'track')
  const live = useLive((s) => s.found)
  const key =
    answers.map((a) => a.dataUpdatedAt + (a.isPlaceholderData ? 'p' : '')).join() +
    tasks.map((t) => t.id + isOpen(t)).join()
  return useMemo(() => {
    const all = new Map<string, Motion>()
    tracks.forEach((track, i) => {
      const { data, isPlaceholderData } = answers[i] ?? {}
      const last = tasks.find((t) => t.subject === track.id)
      const running = last && isOpen(last) ? last.id : null
      const found: Record<number, Found> = last && (running || isPlaceholderData || !data) ? (live[last.id] ?? {}) : {}
      all.set(track.id, motionOf(track, data, found, running))
    })
    const at = (id: string, frame: number) => all.get(id)?.at(frame) ?? null
    return {
      of: (id) => (id ? (all.get(id) ?? null) : null),
      between: (id, a, b) => {
        if (a === b || id === still) return identity
        if (!id) return null
        const [from, to] = [at(id, a), at(id, b)]
        return from && to ? chain(from.inverse(), to) : null
      },
    }
  }, [tracks, key, live])
}

function motionOf(
  track: Track,
  data: Schemas['Motion'] | undefined,
  found: Record<number, Found>,
  running: string | null,
): Motion {
  const samples = new Map<number, Moment>((data?.samples ?? []).map((s) => [s.frame, s]))
  const points = new Map<string, Map<number, Place>>()
  for (const p of track.points ?? [])
    points.set(
      p.id,
      new Map((data?.points?.[p.id] ?? [{ frame: p.home, at: p.at, byHand: true }]).map((x) => [x.frame, x])),
    )
  const fresh = new Map<number, Mesh>()
  for (const f of Object.values(found)) {
    if (f.sample) {
      samples.set(f.frame, { ...f.sample, mesh: f.mesh, grade: 'good', bent: !!f.sample.bend })
      if (f.mesh) fresh.set(f.frame, f.mesh)
    }
    for (const [id, at] of Object.entries(f.points ?? {})) points.get(id)?.set(f.frame, at)
  }
  return {
    track: data?.surface ? { ...track, surface: data.surface } : track,
    samples,
    points,
    straight: data?.straight?.map(([x, y]) => ({ x, y })) ?? null,
    running,
    found: running && fresh.size ? fresh : null,
    at: (frame) => {
      const mesh = samples.get(frame)?.mesh
      return mesh ? ofMesh(mesh) : frame === track.home ? identity : null
    },
  }
}

/** The four corners that stand for a track's surface on its home frame. */
export function surfaceOf(track: Track): Point[] {
  if (track.surface?.length === 4) return track.surface.map(([x, y]) => ({ x, y }))
  const around = [
    ...(track.region ?? []),
    ...(track.points ?? []).filter((p) => p.home === track.home).map((p) => p.at),
  ]
  if (around.length === 0) return []
  const [xs, ys] = [around.map((p) => p[0]), around.map((p) => p[1])]
  let [left, right, top, bottom] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)]
  const gx = Math.max(0, 50 - (right - left) / 2)
  const gy = Math.max(0, 50 - (bottom - top) / 2)
  ;[left, right, top, bottom] = [left - gx, right + gx, top - gy, bottom + gy]
  return [
    { x: left, y: top },
    { x: right, y: top },
    { x: right, y: bottom },
    { x: left, y: bottom },
  ]
}

/** A card seen flat: from there to its home frame, and where it lies there. */
export interface Flat {
  mapping: Mapping
  middle: Point
  size: [number, number]
}

/**
 * A card seen flat lies where it lies on its home frame, as large as it is at its nearest there, so that no pixel is lost at 1 : 1.
 * Null of what is no card, or not there.
 */
export function flatOf({ track, straight }: Motion, lens: Mapping | null): Flat | null {
  if (!track.card || straight?.length !== 4) return null
  const [width, height] = track.card.size
  const side = (i: number, j: number) => Math.hypot(straight[i].x - straight[j].x, straight[i].y - straight[j].y)
  const scale = Math.max(Math.max(side(0, 1), side(2, 3)) / width, Math.max(side(0, 3), side(1, 2)) / height)
  const [w, h] = [scale * width, scale * height]
  const x = straight.reduce((s, p) => s + p.x, 0) / 4
  const y = straight.reduce((s, p) => s + p.y, 0) / 4
  const toCard = ofMatrix([1 / w, 0, 0.5 - x / w, 0, 1 / h, 0.5 - y / h, 0, 0, 1])
  const mapping = lens ? chain(toCard, square(straight), lens) : chain(toCard, square(straight))
  return { mapping, middle: { x, y }, size: [w, h] }
}

/** A mapping that takes out position alone: it moves a place as the surface's middle moves. */
export function positionOnly(m: Mapping, middle: Point): Mapping {
  const to = m.apply(middle)
  return translation(to.x - middle.x, to.y - middle.y)
}
