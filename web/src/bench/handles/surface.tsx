import { useEffect, useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Correction, Moment, Track } from '../../api/client'
import { newId, useEdit } from '../../api/treatment'
import { minus, pathOf, plus, point, polygonOf, vec } from './curve'
import { onTrack, putKey, regionFor, setRegion } from '../edits'
import { drag, Grip, Line } from './lines'
import { chain, identity, ofMesh, square, type Mapping } from '../mapping'
import type { Point } from '../matrix'
import { Pins } from './pins'
import { surfaceOf, type Motion } from '../motion'
import { pointerAt, within, type BenchProps, type Placement } from '../props'
import { useBench } from '../state'

type Props = BenchProps & { motion: Motion; placement: Placement; seen: number }

/** The region of a plane with its corners, carried to the shown frame. */
export function Region({ shot, motion, placement, seen }: Props) {
  const { edit } = useEdit(shot.id)
  const { track } = motion
  const [draft, setDraft] = useState<number[][] | null>(null)
  useEffect(() => setDraft(null), [track.region, track.regions])
  const { region, frame: drawn } = regionFor(track, seen)
  const corners = draft ?? region
  if (corners.length < 3) return null
  const here = within(placement, motion.at(seen))
  const move = (e: ReactPointerEvent, change: (c: number[][], delta: Point) => number[][]) => {
    const root = (e.target as Element).closest('svg')!
    const from = pointerAt(e, root, here)
    let last: number[][] | null = null
    drag(
      e,
      (m) => setDraft((last = change(structuredClone(region), minus(pointerAt(m, root, here), from)))),
      (moved) =>
        moved &&
        last &&
        void edit(
          'Change the region',
          onTrack(track.id, (t) => setRegion(t, drawn, () => last!)),
        ),
    )
  }
  return (
    <g>
      <Line
        d={polygonOf(corners.map(point), here)}
        on
        dashed={!here.placed}
        colour={track.colour}
        className="pointer-events-auto cursor-move"
        onPointerDown={(e) => e.button === 0 && move(e, (c, delta) => c.map((v) => vec(plus(point(v), delta))))}
        onDoubleClick={(e) => {
          const p = pointerAt(e, (e.target as Element).closest('svg')!, here)
          const away = (i: number) => {
            const [a, b] = [point(corners[i]), point(corners[(i + 1) % corners.length])]
            const d = minus(b, a)
            const t = Math.max(0, Math.min(1, ((p.x - a.x) * d.x + (p.y - a.y) * d.y) / (d.x * d.x + d.y * d.y || 1)))
            return Math.hypot(p.x - a.x - t * d.x, p.y - a.y - t * d.y)
          }
          const i = corners.map((_, k) => k).reduce((a, b) => (away(b) < away(a) ? b : a))
          void edit(
            'Add a corner to the region',
            onTrack(track.id, (t) => setRegion(t, drawn, (c) => c.toSpliced(i + 1, 0, vec(p)))),
          )
        }}
      />
      {corners.map((c, i) => (
        <Grip
          key={i}
          p={here.toRoom(point(c))}
          label={`Corner ${i + 1} of the region`}
          onPointerDown={(e) =>
            e.button === 0 && move(e, (cs, delta) => cs.map((v, k) => (k === i ? vec(plus(point(v), delta)) : v)))
          }
        />
      ))}
    </g>
  )
}

/** The parts of the region's box: those that drive the track on this frame, and those left out. */
export function Drives({ motion, placement, seen }: Props) {
  const { blocks, moved, agreement } = motion.samples.get(seen) ?? {}
  const region = motion.track.region ?? []
  const m = motion.at(seen)
  if (!blocks || moved || region.length < 3 || !m) return null
  const here = within(placement, m)
  const [xs, ys] = [region.map((p) => p[0]), region.map((p) => p[1])]
  const [left, top] = [Math.min(...xs), Math.min(...ys)]
  const [w, h] = [(Math.max(...xs) - left) / 8, (Math.max(...ys) - top) / 8]
  if (agreement) return <Found agreement={agreement} here={here} />
  return (
    <g data-testid="drives">
      {[...blocks].map((b, i) => {
        if (b === '0') return null
        const [x, y] = [left + (i % 8) * w, top + Math.floor(i / 8) * h]
        const cell = [
          { x: x + w * 0.06, y: y + h * 0.06 },
          { x: x + w * 0.94, y: y + h * 0.06 },
          { x: x + w * 0.94, y: y + h * 0.94 },
          { x: x + w * 0.06, y: y + h * 0.94 },
        ]
        return (
          <path
            key={i}
            d={polygonOf(cell, here)}
            fill={b === '1' ? 'var(--color-fern)' : 'var(--color-clay)'}
            fillOpacity={b === '1' ? 0.16 : 0.5}
            stroke={b === '1' ? 'var(--color-fern)' : 'var(--color-clay)'}
            strokeOpacity="0.7"
            strokeWidth="0.8"
          />
        )
      })}
    </g>
  )
}

/** Where a surface that bends was found on this frame, and where not: each place around a crossing. */
function Found({ agreement, here }: { agreement: NonNullable<Moment['agreement']>; here: Placement }) {
  const { box, columns, least } = agreement
  const at = Uint8Array.from(atob(agreement.at), (c) => c.charCodeAt(0))
  const rows = at.length / (columns + 1) - 1
  const [w, h] = [(box[2] - box[0]) / columns, (box[3] - box[1]) / rows]
  const cells = { found: '', lost: '' }
  at.forEach((v, i) => {
    if (v === 0) return
    const [x, y] = [box[0] + (i % (columns + 1)) * w, box[1] + Math.floor(i / (columns + 1)) * h]
    const clip = (p: Point) => ({
      x: Math.min(Math.max(p.x, box[0]), box[2]),
      y: Math.min(Math.max(p.y, box[1]), box[3]),
    })
    const corners = [
      { x: x - w / 2, y: y - h / 2 },
      { x: x + w / 2, y: y - h / 2 },
      { x: x + w / 2, y: y + h / 2 },
      { x: x - w / 2, y: y + h / 2 },
    ].map((p) => here.toRoom(clip(p)))
    cells[v >= least ? 'found' : 'lost'] +=
      corners.map((p, k) => `${k ? 'L' : 'M'}${p.x.toFixed(1)} ${p.y.toFixed(1)}`).join('') + 'Z'
  })
  return (
    <g data-testid="drives">
      <path d={cells.found} fill="var(--color-fern)" fillOpacity="0.14" />
      <path d={cells.lost} fill="var(--color-clay)" fillOpacity="0.5" data-testid="lost" />
    </g>
  )
}

/** A grid or a test picture on the surface: any slip against the footage shows. */
export function Aid({ motion, placement, seen }: Props) {
  const aid = useBench((s) => s.aid)
  const m = motion.at(seen)
  const corners = surfaceOf(motion.track)
  if (aid === 'none' || !m || corners.length < 4) return null
  const here = within(placement, chain(square(corners), m))
  const n = 8
  if (aid === 'grid') {
    const lines = Array.from({ length: n + 1 }, (_, i) => i / n).flatMap((v) => [
      [
        { x: v, y: 0 },
        { x: v, y: 1 },
      ],
      [
        { x: 0, y: v },
        { x: 1, y: v },
      ],
    ])
    const d = lines.map((line) => linesOf(line, here)).join('')
    return (
      <g fill="none" data-testid="aid">
        <path d={d} stroke="#000" strokeOpacity="0.45" strokeWidth="2.500" />
        <path d={d} stroke="#fff" strokeOpacity="0.8" strokeWidth="1" />
      </g>
    )
  }
  const cells = Array.from({ length: n * n }, (_, i) => ({ x: i % n, y: Math.floor(i / n) })).filter(
    ({ x, y }) => (x + y) % 2 === 0,
  )
  const d = cells
    .map(({ x, y }) =>
      polygonOf(
        [
          { x: x / n, y: y / n },
          { x: (x + 1) / n, y: y / n },
          { x: (x + 1) / n, y: (y + 1) / n },
          { x: x / n, y: (y + 1) / n },
        ],
        here,
      ),
    )
    .join('')
  const ring = Array.from({ length: 64 }, (_, i) => ({
    x: 0.5 + 0.42 * Math.cos((i * Math.PI) / 32),
    y: 0.5 + 0.42 * Math.sin((i * Math.PI) / 32),
  }))
  return (
    <g data-testid="aid">
      <path
        d={polygonOf(
          [
            { x: 0, y: 0 },
            { x: 1, y: 0 },
            { x: 1, y: 1 },
            { x: 0, y: 1 },
          ],
          here,
        )}
        fill="#d8d8d8"
        fillOpacity="0.75"
      />
      <path d={d} fill="#3a3a3a" fillOpacity="0.8" />
      <path d={polygonOf(ring, here)} fill="none" stroke="var(--color-fern)" strokeWidth="2.5" />
      <path
        d={`${polygonOf(
          [
            { x: 0.46, y: 0.5 },
            { x: 0.54, y: 0.5 },
          ],
          here,
        )}${polygonOf(
          [
            { x: 0.5, y: 0.46 },
            { x: 0.5, y: 0.54 },
          ],
          here,
        )}`}
        stroke="var(--color-clay)"
        strokeWidth="2"
      />
    </g>
  )
}

/** Where the surface goes: the way of its middle, or of its points, over the frames around. */
export function Ghosts({ motion, placement, seen, from }: Props & { from: (frame: number) => Mapping | null }) {
  const near = (frame: number) => Math.abs(frame - seen) <= 24
  const paths: { frame: number; p: Point }[][] = []
  const corners = surfaceOf(motion.track)
  if (motion.points.size)
    for (const path of motion.points.values())
      paths.push([...path.values()].map((v) => ({ frame: v.frame, p: point(v.at) })))
  else if (corners.length === 4) {
    const c = middleOf(corners)
    paths.push(
      [...motion.samples.keys()].filter(near).flatMap((frame) => {
        const m = motion.at(frame)
        return m ? [{ frame, p: m.apply(c) }] : []
      }),
    )
  }
  return (
    <g data-testid="ghosts">
      {paths.map((path, i) => {
        const shown = path.filter((v) => near(v.frame)).sort((a, b) => a.frame - b.frame)
        // In the locked picture a place of another frame is shown where that frame's lock puts it.
        const spots = shown.flatMap(({ frame, p }) => {
          const m = from(frame)
          return m ? [{ frame, q: placement.toRoom(m.apply(p)) }] : []
        })
        return (
          <g key={i}>
            <Line d={spots.map(({ q }, k) => `${k ? 'L' : 'M'}${q.x.toFixed(1)} ${q.y.toFixed(1)}`).join('')} />
            {spots.map(({ frame, q }) => (
              <circle
                key={frame}
                cx={q.x}
                cy={q.y}
                r={frame === seen ? 4.5 : 2.4}
                fill={frame === seen ? 'var(--color-fern)' : '#fff'}
                stroke="#000"
                strokeWidth="1"
              />
            ))}
          </g>
        )
      })}
    </g>
  )
}

/** The four corners of the surface: to be laid on a part of the plane, placed by hand, or corrected. */
export function SurfaceCorners({
  shot,
  motion,
  placement,
  seen,
  mode,
}: Props & { mode: 'surface' | 'correct' | 'place' }) {
  const { edit } = useEdit(shot.id)
  const { track } = motion
  const [draft, setDraft] = useState<Point[] | null>(null)
  const m = motion.at(seen)
  const told = JSON.stringify([m?.key, track.surface, track.placed?.length, track.corrections])
  useEffect(() => setDraft(null), [told, seen])
  const home = surfaceOf(track)
  if (home.length < 4) return null
  const correction = mode === 'correct' ? [...(track.corrections ?? [])].reverse().find((c) => !c.off) : undefined
  if (mode === 'correct' && !correction) return null // it was undone, or switched off
  if (correction?.kind === 'pins')
    return <Pins shot={shot} motion={motion} placement={placement} seen={seen} correction={correction} />
  if (correction?.kind === 'grid')
    return <GridGrips shot={shot} motion={motion} placement={placement} seen={seen} correction={correction} />
  // Without a place on this frame the corners wait where they are at home.
  const carry = m ?? identity
  const corners = draft ?? home.map((p) => carry.apply(p))
  const done = (label: string, to: Point[]) => {
    if (mode === 'surface') {
      const back = carry.inverse()
      void edit(
        label,
        onTrack(track.id, (t) => {
          t.surface = to.map((p) => vec(back.apply(p)))
        }),
      )
    } else if (mode === 'place') {
      void edit(
        'Place the surface by hand',
        onTrack(track.id, (t) => {
          putKey((t.placed ??= []), { frame: seen, corners: to.map(vec), guess: true })
        }),
      )
    } else if (correction) {
      const told = motion.samples.get(seen)?.before
      const back = (told ? ofMesh(told) : carry).inverse()
      const moved = to.map((p, i) => minus(back.apply(p), home[i]))
      void edit(
        label,
        onTrack(track.id, (t) => {
          const c = t.corrections?.find((x) => x.id === correction.id)
          if (c) putKey(c.keys, keyOf(c, seen, moved, middleOf(home), chain(carry, back)))
        }),
      )
    }
  }
  const move = (e: ReactPointerEvent, label: string, who: number[]) => {
    const root = (e.target as Element).closest('svg')!
    const from = pointerAt(e, root, placement)
    const start = corners
    let last = start
    drag(
      e,
      (p) => {
        const delta = minus(pointerAt(p, root, placement), from)
        setDraft((last = start.map((q, i) => (who.includes(i) ? plus(q, delta) : q))))
      },
      (did) => did && done(label, last),
    )
  }
  // A correction by placement moves as a whole.
  const stiff = correction?.kind === 'placement'
  const label = mode === 'correct' ? 'Correct the track' : mode === 'place' ? 'Place the surface' : 'Lay the surface'
  return (
    <g>
      <Line
        d={polygonOf(corners, placement)}
        on
        dashed={!m}
        className="pointer-events-auto cursor-move"
        onPointerDown={(e) => e.button === 0 && move(e, label, [0, 1, 2, 3])}
      />
      {corners.map((p, i) => (
        <Grip
          key={i}
          square
          on
          p={placement.toRoom(p)}
          label={`Surface corner ${i + 1}`}
          onPointerDown={(e) => e.button === 0 && move(e, label, stiff ? [0, 1, 2, 3] : [i])}
        />
      ))}
    </g>
  )
}

/** The crossings of a grid correction: each is dragged to where it should be on this frame. */
function GridGrips({
  shot,
  motion,
  placement,
  seen,
  correction,
}: Pick<Props, 'shot' | 'motion' | 'placement' | 'seen'> & { correction: Correction }) {
  const { edit } = useEdit(shot.id)
  const [draft, setDraft] = useState<Point[] | null>(null)
  const m = motion.at(seen)
  const told = JSON.stringify([m?.key, motion.samples.get(seen)?.crossings, correction])
  useEffect(() => setDraft(null), [told, seen])
  const corners = surfaceOf(motion.track)
  const [columns, rows] = correction.cells ?? [1, 1]
  if (!m || corners.length < 4) return null
  // A crossing is moved at home, before all that carries the surface from there.
  const before = motion.samples.get(seen)?.before
  const here = within(placement, before ? ofMesh(before) : m)
  const [xs, ys] = [corners.map((p) => p.x), corners.map((p) => p.y)]
  const [left, top, right, bottom] = [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)]
  const rest = Array.from({ length: (columns + 1) * (rows + 1) }, (_, i) => ({
    x: left + ((right - left) * (i % (columns + 1))) / columns,
    y: top + ((bottom - top) * Math.floor(i / (columns + 1))) / rows,
  }))
  const now = motion.samples.get(seen)?.crossings ?? []
  const at = draft ?? rest.map((p, i) => plus(p, now[i] ? point(now[i]) : { x: 0, y: 0 }))
  const line = (a: Point, b: Point) => linesOf([a, b], here)
  const lines = at
    .map(
      (p, i) =>
        (i % (columns + 1) < columns ? line(p, at[i + 1]) : '') +
        (i + columns + 1 < at.length ? line(p, at[i + columns + 1]) : ''),
    )
    .join('')
  return (
    <g>
      <Line d={lines} on />
      {at.map((p, i) => (
        <Grip
          key={i}
          square
          on
          p={here.toRoom(p)}
          label={`Crossing ${i + 1}`}
          onPointerDown={(e) => {
            if (e.button !== 0) return
            const root = (e.target as Element).closest('svg')!
            const from = pointerAt(e, root, here)
            let last = at
            drag(
              e,
              (g) =>
                setDraft((last = at.map((q, k) => (k === i ? plus(q, minus(pointerAt(g, root, here), from)) : q)))),
              (did) =>
                did &&
                void edit(
                  'Correct the track',
                  onTrack(motion.track.id, (t) => {
                    const c = t.corrections?.find((x) => x.id === correction.id)
                    if (c)
                      putKey(c.keys, {
                        frame: seen,
                        ease: c.keys.find((k) => k.frame === seen)?.ease ?? 'eased',
                        offset: [0, 0],
                        crossings: last.map((q, k) => round(minus(q, rest[k]))),
                      })
                  }),
                ),
            )
          }}
        />
      ))}
    </g>
  )
}

/** A key of a correction that moves the surface's corners by so much. */
function keyOf(c: Correction, frame: number, moved: Point[], middle: Point, now: Mapping) {
  const old = c.keys.find((k) => k.frame === frame)
  const ease = old?.ease ?? ('eased' as const)
  if (c.kind === 'corners') return { frame, ease, offset: [0, 0], corners: moved.map((p) => round(p)) }
  const across = minus(now.apply({ x: middle.x + 1, y: middle.y }), now.apply(middle))
  const turned = {
    turn: Math.round((Math.atan2(across.y, across.x) * 180e4) / Math.PI) / 1e4,
    scale: Math.round(Math.hypot(across.x, across.y) * 1e6) / 1e6,
  }
  return { ...(old ?? turned), frame, ease, offset: round(middleOf(moved)) }
}

const middleOf = (corners: Point[]): Point => ({
  x: corners.reduce((s, p) => s + p.x, 0) / corners.length,
  y: corners.reduce((s, p) => s + p.y, 0) / corners.length,
})

/** A line, as straight as its coordinates are. */
const linesOf = (line: Point[], here: Placement) =>
  pathOf(
    line.map((p) => ({ at: [p.x, p.y] })),
    here,
    false,
  )

const round = (p: Point) => [Math.round(p.x * 1000) / 1000, Math.round(p.y * 1000) / 1000]

const gridCells = [3, 2]

/** A new correction; it begins as none, with a key on the track's home. */
export function newCorrection(t: Track, kind: Correction['kind']): Correction {
  if (kind === 'grid') {
    const none = Array.from({ length: (gridCells[0] + 1) * (gridCells[1] + 1) }, () => [0, 0])
    return {
      id: newId(),
      name: 'By grid',
      kind,
      cells: [...gridCells],
      keys: [{ frame: t.home, ease: 'eased', offset: [0, 0], crossings: none }],
    }
  }
  if (kind === 'pins')
    return {
      id: newId(),
      name: 'By pins',
      kind,
      keys: [{ frame: t.home, ease: 'eased', offset: [0, 0] }],
    }
  return {
    id: newId(),
    name: kind === 'corners' ? 'By corners' : 'By placement',
    kind,
    keys: [
      kind === 'corners'
        ? {
            frame: t.home,
            ease: 'eased',
            offset: [0, 0],
            corners: [
              [0, 0],
              [0, 0],
              [0, 0],
              [0, 0],
            ],
          }
        : { frame: t.home, ease: 'eased', offset: [0, 0], turn: 0, scale: 1 },
    ],
  }
}
