import { useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Track, TrackPoint } from '../../api/client'
import { newId, useEdit } from '../../api/treatment'
import { minus, plus, point, polygonOf, vec } from './curve'
import { free, onTrack, putKey } from '../edits'
import { drag, Grip, Line, Words } from './lines'
import type { Point } from '../matrix'
import type { Motion } from '../motion'
import { pointerAt, type BenchProps, type Placement } from '../props'
import { bench, useBench } from '../state'

/** What a new point is followed with, until the last one's settings take its place. */
export const firstSettings = {
  pattern: [31, 31],
  search: [91, 91],
  motion: 'position' as const,
  channel: 'luma' as const,
  against: 'reference' as const,
  tolerance: 0.7,
  use: [0, 0],
}

export function newPoint(track: Track, frame: number, at: Point): TrackPoint {
  const last = track.points?.[track.points.length - 1]
  const { pattern, search, motion, channel, against, tolerance } = last ?? firstSettings
  return {
    id: newId(),
    name: `Point ${free(
      'Point',
      (track.points ?? []).map((p) => p.name),
    )}`,
    home: frame,
    at: vec(at),
    pattern,
    search,
    motion,
    channel,
    against,
    tolerance,
    use: [0, 0],
  }
}

const box = (c: Point, size: number[]): Point[] =>
  [
    [-1, -1],
    [1, -1],
    [1, 1],
    [-1, 1],
  ].map(([x, y]) => ({ x: c.x + (x * size[0]) / 2, y: c.y + (y * size[1]) / 2 }))

/** The points of a track with their pattern and search boxes. */
export function TrackPoints({
  shot,
  motion,
  placement,
  seen,
}: BenchProps & { motion: Motion; placement: Placement; seen: number }) {
  const { edit } = useEdit(shot.id)
  const chosen = useBench((s) => s.points)
  const [draft, setDraft] = useState<{ id: string; change: Partial<TrackPoint>; at?: Point } | null>(null)
  const { track } = motion
  const save = (label: string, id: string, change: (p: TrackPoint) => void) =>
    void edit(
      label,
      onTrack(track.id, (t) => {
        const p = t.points?.find((x) => x.id === id)
        if (p) change(p)
      }),
    ).finally(() => setDraft(null))

  return (
    <>
      {(track.points ?? []).map((stored) => {
        const p: TrackPoint = draft?.id === stored.id ? { ...stored, ...draft.change } : stored
        const place = motion.points.get(p.id)?.get(seen)
        const at =
          draft?.id === p.id && draft.at ? draft.at : place ? point(place.at) : seen === p.home ? point(p.at) : null
        if (!at) return null
        const on = chosen.includes(p.id)
        const c = placement.toRoom(at)
        const root = (e: ReactPointerEvent) => (e.target as Element).closest('svg')!
        const select = (e: ReactPointerEvent) => {
          const more = e.shiftKey
          bench.set({
            key: null,
            outline: null,
            points: more ? (on ? chosen.filter((x) => x !== p.id) : [...chosen, p.id]) : on ? chosen : [p.id],
          })
        }
        /** Puts the point elsewhere on this frame. */
        const move = (e: ReactPointerEvent) => {
          select(e)
          const from = pointerAt(e, root(e), placement)
          let last = at
          drag(
            e,
            (m) =>
              setDraft({ id: p.id, change: {}, at: (last = plus(at, minus(pointerAt(m, root(e), placement), from))) }),
            (did) =>
              did &&
              save('Place a point', p.id, (x) => {
                if (seen === x.home && !x.path) x.at = vec(last)
                else putKey((x.placed ??= []), { frame: seen, at: vec(last) })
              }),
          )
        }
        const resize = (e: ReactPointerEvent, which: 'pattern' | 'search') => {
          select(e)
          let size = p[which]
          drag(
            e,
            (m) => {
              const d = minus(pointerAt(m, root(e), placement), at)
              const least = which === 'pattern' ? [7, 7] : p.pattern
              const most = which === 'pattern' ? 400 : 1200
              size = [d.x, d.y].map((v, i) => Math.round(Math.min(most, Math.max(least[i], 2 * Math.abs(v)))))
              const search = which === 'pattern' ? p.search.map((v, i) => Math.max(v, size[i])) : size
              setDraft({ id: p.id, change: which === 'pattern' ? { pattern: size, search } : { search } })
            },
            // Settings of several are changed together.
            (did) =>
              did &&
              void edit(
                which === 'pattern' ? 'Size of the pattern' : 'Size of the search box',
                onTrack(track.id, (t) => {
                  for (const x of t.points ?? []) {
                    if (x.id !== p.id && !chosen.includes(x.id)) continue
                    if (which === 'pattern') {
                      x.pattern = size
                      x.search = x.search.map((v, i) => Math.max(v, size[i]))
                    } else x.search = size.map((v, i) => Math.max(v, x.pattern[i]))
                  }
                }),
              ).finally(() => setDraft(null)),
          )
        }
        const inner = box(at, p.pattern)
        const outer = box(at, p.search)
        const used = plus(at, point(p.use))
        return (
          <g key={p.id} opacity={p.off ? 0.4 : 1}>
            <Line
              d={polygonOf(inner, placement)}
              on={on}
              className="pointer-events-auto cursor-move"
              onPointerDown={(e) => e.button === 0 && move(e)}
            />
            {on && <Line d={polygonOf(outer, placement)} dashed />}
            {place?.variance && (
              <Unsure c={c} variance={place.variance} zoom={placement.toRoom({ x: at.x + 1, y: at.y }).x - c.x} />
            )}
            <path d={`M${c.x - 6} ${c.y}h12M${c.x} ${c.y - 6}v12`} stroke="#000" strokeWidth="3.5" />
            <path
              d={`M${c.x - 6} ${c.y}h12M${c.x} ${c.y - 6}v12`}
              stroke={place?.byHand || place?.bridged ? 'var(--color-clay)' : '#fff'}
              strokeWidth="1.4"
            />
            <g
              role="img"
              className="pointer-events-auto cursor-move"
              aria-label={`${p.name}, place`}
              onPointerDown={(e) => e.button === 0 && move(e)}
            >
              <circle cx={c.x} cy={c.y} r="9" fill="transparent" />
            </g>
            {on && (
              <>
                {inner.map((q, i) => (
                  <Grip
                    key={i}
                    small
                    square
                    p={placement.toRoom(q)}
                    label={`${p.name}, pattern corner ${i + 1}`}
                    onPointerDown={(e) => resize(e, 'pattern')}
                  />
                ))}
                {outer.map((q, i) => (
                  <Grip
                    key={i}
                    small
                    square
                    p={placement.toRoom(q)}
                    label={`${p.name}, search corner ${i + 1}`}
                    onPointerDown={(e) => resize(e, 'search')}
                  />
                ))}
              </>
            )}
            {(p.use[0] !== 0 || p.use[1] !== 0) && (
              <>
                <Line dashed d={`M${c.x} ${c.y}L${placement.toRoom(used).x} ${placement.toRoom(used).y}`} />
                <Grip
                  small
                  p={placement.toRoom(used)}
                  label={`${p.name}, place that is used`}
                  onPointerDown={(e) => {
                    let last = p.use
                    drag(
                      e,
                      (m) =>
                        setDraft({
                          id: p.id,
                          change: { use: (last = vec(minus(pointerAt(m, root(e), placement), at))) },
                        }),
                      (did) =>
                        did &&
                        save('Move the place used', p.id, (x) => {
                          x.use = last
                        }),
                    )
                  }}
                />
              </>
            )}
            <Words p={placement.toRoom(inner[0])}>{p.name}</Words>
          </g>
        )
      })}
    </>
  )
}

/** By how much a point is enlarged where it is told how well it is known: hundredths of a pixel are not seen. */
const enlarged = 300

/** An ellipse that says how well a point is known, and in which direction. */
function Unsure({ c, variance: [xx, xy, yy], zoom }: { c: Point; variance: number[]; zoom: number }) {
  const mean = (xx + yy) / 2
  const apart = Math.hypot((xx - yy) / 2, xy)
  const [long, short] = [mean + apart, mean - apart].map((v) => Math.sqrt(Math.max(v, 0)) * enlarged * Math.abs(zoom))
  return (
    <ellipse
      cx={c.x}
      cy={c.y}
      rx={long}
      ry={short}
      transform={`rotate(${(Math.atan2(2 * xy, xx - yy) * 90) / Math.PI} ${c.x} ${c.y})`}
      fill="none"
      stroke="var(--color-fern)"
      strokeWidth="1"
      data-testid="unsure"
    />
  )
}

/** Putting new points on the picture: one with each click. */
export function PutPoints({
  shot,
  motion,
  placement,
  seen,
}: BenchProps & { motion: Motion; placement: Placement; seen: number }) {
  const { edit } = useEdit(shot.id)
  return (
    <svg
      className="absolute inset-0 h-full w-full cursor-crosshair"
      data-testid="draw"
      onPointerDown={(e) => {
        if (e.button !== 0) return
        e.stopPropagation()
        const at = pointerAt(e, e.currentTarget, placement)
        const p = newPoint(motion.track, seen, at)
        void edit(
          'Put a point',
          onTrack(motion.track.id, (t) => {
            ;(t.points ??= []).push({
              ...p,
              name: `Point ${free(
                'Point',
                (t.points ?? []).map((x) => x.name),
              )}`,
            })
          }),
        )
        bench.set({ points: [p.id] })
      }}
    />
  )
}
